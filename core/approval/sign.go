package approval

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/secure-systems-lab/go-securesystemslib/dsse"
	"golang.org/x/crypto/ssh"

	"kasbah/core/value"
)

// payloadType is that of a proposal in an envelope.
const payloadType = "application/vnd.kasbah.proposal+json"

// Envelope is a proposal as bytes, with its signatures.
type Envelope struct{ dsse.Envelope }

// Wrap puts a proposal's bytes into an envelope without signatures.
func Wrap(payload []byte) *Envelope {
	return &Envelope{dsse.Envelope{PayloadType: payloadType, Payload: base64.StdEncoding.EncodeToString(payload),
		Signatures: []dsse.Signature{}}}
}

// Open reads an envelope. ok is false when body is no envelope at all. What
// would be read in several ways, such as keys in other case, is refused.
func Open(body []byte) (e *Envelope, payload []byte, ok bool, err error) {
	var head map[string]json.RawMessage
	if json.Unmarshal(body, &head) != nil || head["payloadType"] == nil {
		return nil, nil, false, nil
	}
	e = &Envelope{}
	if err := json.Unmarshal(body, &e.Envelope); err != nil {
		return nil, nil, true, err
	}
	if e.PayloadType != payloadType {
		return nil, nil, true, fmt.Errorf("it holds %s, not a proposal", e.PayloadType)
	}
	var exact struct{ Signatures []map[string]string }
	if err := json.Unmarshal(body, &exact); err != nil {
		return nil, nil, true, err
	}
	for k := range head {
		if k != "payloadType" && k != "payload" && k != "signatures" {
			return nil, nil, true, fmt.Errorf("an envelope has no %q", k)
		}
	}
	for _, s := range exact.Signatures {
		for k := range s {
			if k != "keyid" && k != "sig" {
				return nil, nil, true, fmt.Errorf("a signature has no %q", k)
			}
		}
	}
	payload, err = base64.StdEncoding.Strict().DecodeString(e.Payload)
	return e, payload, true, err
}

// Private reads a private key: one that OpenSSH wrote, or PKCS #8. passphrase
// is asked for where it is protected by one.
func Private(body []byte, passphrase func() ([]byte, error)) (ssh.Signer, error) {
	s, err := ssh.ParsePrivateKey(body)
	var missing *ssh.PassphraseMissingError
	if errors.As(err, &missing) {
		p, err := passphrase()
		if err != nil {
			return nil, err
		}
		return ssh.ParsePrivateKeyWithPassphrase(body, p)
	}
	return s, err
}

// Sign adds a signature. It reports whether there was none by that key yet.
func (e *Envelope) Sign(s ssh.Signer) (added bool, err error) {
	payload, err := e.DecodeB64Payload()
	if err != nil {
		return false, err
	}
	id := Fingerprint(s.PublicKey())
	for _, old := range e.Signatures {
		if old.KeyID == id && verified(s.PublicKey(), old.Sig, payload) {
			return false, nil
		}
	}
	sig, err := Sign(s, payloadType, payload)
	if err != nil {
		return false, err
	}
	e.Signatures = append(e.Signatures, dsse.Signature{KeyID: id, Sig: base64.StdEncoding.EncodeToString(sig)})
	return true, nil
}

// Sign signs a payload of a type, over DSSE's PAE of both: 64 bytes as in RFC 8032 by an
// Ed25519 key, as RFC 4253 has it by another one.
func Sign(s ssh.Signer, typ string, payload []byte) ([]byte, error) {
	algorithm := s.PublicKey().Type()
	if algorithm == ssh.KeyAlgoRSA {
		algorithm = ssh.KeyAlgoRSASHA512
	}
	as, ok := s.(ssh.AlgorithmSigner)
	if !ok {
		return nil, fmt.Errorf("keys of type %s cannot sign here", s.PublicKey().Type())
	}
	sig, err := as.SignWithAlgorithm(rand.Reader, dsse.PAE(typ, payload), algorithm)
	if err != nil {
		return nil, err
	}
	if sig.Format == ssh.KeyAlgoED25519 {
		return sig.Blob, nil
	}
	return ssh.Marshal(sig), nil
}

// Verify reports whether a key has signed a payload of a type, as Sign does.
func Verify(k ssh.PublicKey, typ string, payload, sig []byte) bool {
	s := &ssh.Signature{Format: ssh.KeyAlgoED25519, Blob: sig}
	if k.Type() != ssh.KeyAlgoED25519 {
		s = &ssh.Signature{}
		if ssh.Unmarshal(sig, s) != nil {
			return false
		}
	}
	return k.Verify(dsse.PAE(typ, payload), s) == nil
}

func verified(k ssh.PublicKey, sig string, payload []byte) bool {
	b, err := base64.StdEncoding.Strict().DecodeString(sig)
	return err == nil && Verify(k, payloadType, payload, b)
}

// SignedWith reports whether a public key has signed what is in the envelope.
func (e *Envelope) SignedWith(key string) bool {
	k, err := Public(key)
	if e == nil || err != nil {
		return false
	}
	payload, err := e.DecodeB64Payload()
	if err != nil {
		return false
	}
	for _, s := range e.Signatures {
		if s.KeyID == Fingerprint(k) && verified(k, s.Sig, payload) {
			return true
		}
	}
	return false
}

// Holder is who holds a public key, by names and keys; "" for no one.
func Holder(keys map[string]string, key string) string {
	k, err := Public(key)
	if err != nil {
		return ""
	}
	for _, who := range value.Keys(keys) {
		if o, err := Public(keys[who]); err == nil && Fingerprint(o) == Fingerprint(k) {
			return who
		}
	}
	return ""
}

// Signed is what the signatures of an envelope come to under some keys.
type Signed struct {
	By        []string // who signed, by the names of the keys
	Strangers []string // fingerprints of signatures by no listed key
	Wrong     []string // who is named by a signature that is not theirs over these bytes
}

// Check holds the signatures against keys, by the name of who holds each.
func (e *Envelope) Check(keys map[string]string) (Signed, error) {
	var out Signed
	if e == nil {
		return out, nil
	}
	payload, err := e.DecodeB64Payload()
	if err != nil {
		return out, err
	}
	known := map[string]string{} // fingerprint -> who
	public := map[string]ssh.PublicKey{}
	for _, who := range value.Keys(keys) {
		k, err := Public(keys[who])
		if err != nil {
			return out, fmt.Errorf("the key of %s: %w", who, err)
		}
		if _, twice := known[Fingerprint(k)]; !twice { // one key counts once, whoever lists it
			known[Fingerprint(k)], public[who] = who, k
		}
	}
	seen := map[string]bool{}
	for _, s := range e.Signatures {
		who, ok := known[s.KeyID]
		switch {
		case !ok:
			out.Strangers = append(out.Strangers, s.KeyID)
		case !verified(public[who], s.Sig, payload):
			out.Wrong = append(out.Wrong, who)
		case !seen[who]:
			seen[who] = true
			out.By = append(out.By, who)
		}
	}
	return out, nil
}
