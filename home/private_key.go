package home

import (
	"fmt"

	"golang.org/x/crypto/ssh"

	"kasbah/core/approval"
	"kasbah/core/disk"
)

// maxKey is more than any private key takes.
const maxKey = 1 << 20

// PrivateKey reads a private key from a file: Ed25519 or another SSH key. ask asks for its
// passphrase, where it has one. The file of a public key stands for the private one that an SSH agent holds.
func PrivateKey(path string, ask func() (string, error)) (ssh.Signer, error) {
	body, err := disk.Read(path, maxKey)
	if err != nil {
		return nil, err
	}
	if public, _, _, _, err := ssh.ParseAuthorizedKey(body); err == nil {
		key, err := agentKey(approval.Fingerprint(public))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return agentSigner{key}, nil
	}
	s, err := approval.Private(body, func() ([]byte, error) {
		text, err := ask()
		return []byte(text), err
	})
	if err != nil {
		return nil, fmt.Errorf("%s cannot sign: %w", path, err)
	}
	return s, nil
}
