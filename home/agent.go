package home

import (
	"bytes"
	"crypto/ed25519"
	"crypto/hkdf"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"kasbah/core/approval"
	"kasbah/core/seal"
)

// agentVariable is the socket of the SSH agent.
const agentVariable = "SSH_AUTH_SOCK"

// agentWord begins a line of an identity file that stands for a key which an SSH agent holds: agent:SHA256:….
const agentWord = "agent:"

// withAgent does something with the SSH agent, where there is one.
func withAgent(do func(agent.ExtendedAgent) error) error {
	at := os.Getenv(agentVariable)
	if at == "" {
		return fmt.Errorf("no SSH agent is known here: %s is not set", agentVariable)
	}
	c, err := net.Dial("unix", at)
	if err != nil {
		return fmt.Errorf("the SSH agent cannot be reached: %w", err)
	}
	defer c.Close()
	return do(agent.NewClient(c))
}

// agentKeys are the public keys that the SSH agent holds.
func agentKeys() (keys []ssh.PublicKey, err error) {
	err = withAgent(func(a agent.ExtendedAgent) error {
		list, err := a.List()
		for _, k := range list {
			if public, err := ssh.ParsePublicKey(k.Blob); err == nil { // one of a kind that is not known here serves nothing
				keys = append(keys, public)
			}
		}
		return err
	})
	return keys, err
}

// agentSigner signs with a key that the SSH agent holds. It connects for each signature.
type agentSigner struct{ public ssh.PublicKey }

func (s agentSigner) PublicKey() ssh.PublicKey { return s.public }

func (s agentSigner) Sign(_ io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(nil, data, "")
}

// SignWithAlgorithm asks the agent. RSA keys sign with SHA-512, whatever is asked for.
func (s agentSigner) SignWithAlgorithm(_ io.Reader, data []byte, _ string) (sig *ssh.Signature, err error) {
	err = withAgent(func(a agent.ExtendedAgent) error {
		var how agent.SignatureFlags
		if s.public.Type() == ssh.KeyAlgoRSA {
			how = agent.SignatureFlagRsaSha512
		}
		sig, err = a.SignWithFlags(s.public, data, how)
		return err
	})
	return sig, err
}

// agentKey is the agent's key with a fingerprint, or the only one where none is named.
func agentKey(fingerprint string) (ssh.PublicKey, error) {
	keys, err := agentKeys()
	if err != nil {
		return nil, err
	}
	var names []string
	for _, k := range keys {
		if approval.Fingerprint(k) == fingerprint || fingerprint == "" && len(keys) == 1 {
			return k, nil
		}
		names = append(names, approval.Fingerprint(k))
	}
	switch {
	case len(keys) == 0:
		return nil, errors.New("the SSH agent holds no key: `ssh-add` gives it one")
	case fingerprint == "":
		return nil, fmt.Errorf("the SSH agent holds several keys; say which: %s", strings.Join(names, ", "))
	}
	return nil, fmt.Errorf("the SSH agent does not hold the key %s", fingerprint)
}

// openingSpace is the namespace of the message that an agent signs to open what is sealed.
const openingSpace = "opening@kasbah"

// openingMessage is what an agent signs: the signature is where the age identity is made from. It has the form of
// SSH's own signatures of files (OpenSSH, PROTOCOL.sshsig), so that no login can be taken for it.
func openingMessage(public ssh.PublicKey) []byte {
	sum := sha512.Sum512([]byte("the key that opens what is sealed to " + approval.Fingerprint(public)))
	return append([]byte("SSHSIG"), ssh.Marshal(struct {
		Namespace, Reserved, Hash string
		Sum                       []byte
	}{openingSpace, "", "sha512", sum[:]})...)
}

// agentIdentity is an age identity, of a further Ed25519 key, that is made from a signature of a key which an agent
// holds, when it is first
// needed. Ed25519 (RFC 8032) and RSA with PKCS #1 v1.5 (RFC 8017) sign the same message the same way each time.
type agentIdentity struct {
	fingerprint string
	made        func() (*agessh.Ed25519Identity, error)
}

func newAgentIdentity(fingerprint string) *agentIdentity {
	return &agentIdentity{fingerprint, sync.OnceValues(func() (*agessh.Ed25519Identity, error) {
		key, err := derivedKey(fingerprint)
		if err != nil {
			return nil, err
		}
		return agessh.NewEd25519Identity(key)
	})}
}

// Unwrap opens the stanzas of an age header.
func (i *agentIdentity) Unwrap(stanzas []*age.Stanza) ([]byte, error) {
	id, err := i.made()
	if err != nil {
		return nil, &seal.UnusableError{Err: err}
	}
	return id.Unwrap(stanzas)
}

// derivedKey is the Ed25519 key that is made from a signature.
func derivedKey(fingerprint string) (ed25519.PrivateKey, error) {
	public, err := agentKey(fingerprint)
	if err != nil {
		return nil, err
	}
	if t := public.Type(); t != ssh.KeyAlgoED25519 && t != ssh.KeyAlgoRSA {
		return nil, fmt.Errorf("the key %s is of type %s, which signs otherwise each time: use an Ed25519 or RSA key",
			fingerprint, t)
	}
	var sig *ssh.Signature
	for range 2 {
		next, err := agentSigner{public}.SignWithAlgorithm(nil, openingMessage(public), "")
		if err != nil {
			return nil, fmt.Errorf("the SSH agent did not sign: %w", err)
		}
		if public.Verify(openingMessage(public), next) != nil {
			return nil, errors.New("the SSH agent gave a wrong signature")
		}
		if sig != nil && !bytes.Equal(sig.Blob, next.Blob) {
			return nil, fmt.Errorf("the key %s signs otherwise each time, so nothing can be sealed to it", fingerprint)
		}
		sig = next
	}
	secret, err := hkdf.Key(sha256.New, sig.Blob, public.Marshal(), "kasbah opening 1", 32)
	if err != nil {
		return nil, err
	}
	return ed25519.NewKeyFromSeed(secret), nil
}

// NewAgentIdentity has a key that the SSH agent holds open what is sealed to it: the only one, or that with a
// fingerprint. A line for it is kept with the other identities, and its public key for others is returned.
func (h *Home) NewAgentIdentity(fingerprint string) (public string, err error) {
	key, err := agentKey(fingerprint)
	if err != nil {
		return "", err
	}
	fingerprint = approval.Fingerprint(key)
	derived, err := derivedKey(fingerprint)
	if err != nil {
		return "", err
	}
	k, err := ssh.NewPublicKey(derived.Public())
	if err != nil {
		return "", err
	}
	public = authorized(k)
	return public, h.addIdentity(public, agentWord+fingerprint)
}

// isFingerprint reports whether a text is a fingerprint as SSH shows it.
func isFingerprint(s string) bool {
	rest, ok := strings.CutPrefix(s, "SHA256:")
	sum, err := base64.RawStdEncoding.DecodeString(rest)
	return ok && err == nil && len(sum) == sha256.Size
}

// AgentSigner is a key of the SSH agent that is among some public ones; nil where it holds none of them, or where no
// agent runs.
func AgentSigner(among []string) ssh.Signer {
	keys, err := agentKeys()
	if err != nil {
		return nil
	}
	for _, k := range keys {
		if approval.Holder(named(among), authorized(k)) != "" {
			return agentSigner{k}
		}
	}
	return nil
}

func named(keys []string) map[string]string {
	out := map[string]string{}
	for _, k := range keys {
		out[k] = k
	}
	return out
}
