// Package approval says who must sign a proposal, signs, and checks
// signatures. A signed proposal is a DSSE envelope
// (https://github.com/secure-systems-lab/dsse) whose keys are SSH keys;
// Ed25519 signatures are 64 bytes as in RFC 8032, others as RFC 4253 has them.
package approval

import (
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"kasbah/core/nearest"
	"kasbah/core/value"
)

// Policy says which proposals need signatures, how many, and whose. A nil
// policy asks for none.
type Policy struct {
	Signatures int               `json:"signatures"`
	Keys       map[string]string `json:"keys"`          // who -> public key, as Public reads it
	For        []string          `json:"for,omitempty"` // some of reasons; every change when empty
	// how long after its making a proposal may be begun, as time.ParseDuration reads it
	Valid string `json:"valid"`
}

// reasons are what a policy can ask for signatures for, apart from every
// change: actions, and what they touch.
var reasons = []string{"new", "edit", "swap", "drop", "adopt", "release", "rename", "data", "security"}

// defaultValid is how long a proposal may wait when the policy does not say.
const defaultValid = 72 * time.Hour

// KeyError is what is wrong with one key of [approval].
type KeyError struct {
	Key  string // such as keys.keeper-2
	Msg  string
	Hint string
}

// Error is what is wrong.
func (e *KeyError) Error() string { return e.Msg }

// Read reads [approval] as kasbah.toml gives it. Errors are of type *KeyError,
// joined.
func Read(m value.Map) (*Policy, error) {
	if len(m) == 0 {
		return nil, nil
	}
	p := &Policy{Signatures: 1, Keys: map[string]string{}, Valid: short(defaultValid)}
	var errs []error
	wrong := func(key, hint, format string, args ...any) {
		errs = append(errs, &KeyError{key, fmt.Sprintf(format, args...), hint})
	}
	known := []string{"signatures", "keys", "for", "valid"}
	holders := map[string]string{} // fingerprint -> who
	for _, k := range value.Keys(m) {
		switch v := m[k].(type) {
		case int64:
			if k == "signatures" && v >= 1 {
				p.Signatures = int(v)
				continue
			}
		case string:
			if d, err := time.ParseDuration(v); k == "valid" && err == nil && d > 0 {
				p.Valid = short(d)
				continue
			}
		case []any:
			if k == "for" {
				for _, x := range v {
					s, _ := x.(string)
					if !slices.Contains(reasons, s) {
						wrong("for", nearest.Hint(s, reasons), "for: %s is none of %s", value.Plain(x),
							strings.Join(reasons, ", "))
					}
					p.For = append(p.For, s)
				}
				slices.Sort(p.For)
				continue
			}
		case map[string]any:
			if k == "keys" {
				for _, who := range value.Keys(v) {
					s, _ := v[who].(string)
					k, err := Public(s)
					if err != nil {
						wrong("keys."+who, "", "the key of %s: %v", who, err)
					} else if other, twice := holders[Fingerprint(k)]; twice {
						wrong("keys."+who, "", "%s and %s have the same key, which counts once", other, who)
					} else {
						holders[Fingerprint(k)] = who
					}
					p.Keys[who] = s
				}
				continue
			}
		}
		if !slices.Contains(known, k) {
			wrong(k, nearest.Hint(k, known), "unknown key %q in [approval]", k)
			continue
		}
		wrong(k, "", "%s = %s: %s", k, value.Plain(m[k]), map[string]string{
			"signatures": "must be a whole number of at least 1", "valid": `must be a time such as "72h"`,
			"for":  `must be a list such as ["drop", "data"]; leave it out for every change`,
			"keys": "must be a table of names and public keys"}[k])
	}
	if len(errs) == 0 && len(p.Keys) < p.Signatures {
		wrong("keys", "", "%d signatures are asked for, and %d keys are listed", p.Signatures, len(p.Keys))
	}
	return p, errors.Join(errs...)
}

// short writes 72h0m0s as 72h, so that one time is written one way.
func short(d time.Duration) string {
	s := d.String()
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}

// Digest identifies a policy: SHA-256 in hexadecimal, "" for none.
func (p *Policy) Digest() string {
	if p == nil {
		return ""
	}
	// maps are printed in order
	return fmt.Sprintf("%x", sha256.Sum256(fmt.Appendf(nil, "%d %q %q %q", p.Signatures, p.Keys, p.For, p.Valid)))
}

// Asks lists why a proposal needs signatures, given what it does and touches:
// some of reasons. It is empty when it needs none.
func (p *Policy) Asks(does map[string]bool) []string {
	if p == nil {
		return nil
	}
	if len(p.For) == 0 {
		for _, is := range does {
			if is {
				return []string{"every change"}
			}
		}
		return nil
	}
	var out []string
	for _, r := range p.For {
		if does[r] {
			out = append(out, r)
		}
	}
	return out
}

// Ends is until when a proposal made at a time may be begun.
func (p *Policy) Ends(made time.Time) time.Time {
	d, err := time.ParseDuration(p.Valid)
	if err != nil {
		d = defaultValid
	}
	return made.Add(d)
}

// Public reads a public key: as in an authorized_keys file, or as `ed25519`
// and base64 of either its 32 bytes or its SubjectPublicKeyInfo (RFC 8410).
func Public(s string) (ssh.PublicKey, error) {
	if rest, ok := strings.CutPrefix(s, "ed25519 "); ok {
		b, err := base64.StdEncoding.DecodeString(strings.TrimSpace(rest))
		if err != nil {
			return nil, errors.New("what follows ed25519 is not base64")
		}
		if len(b) == ed25519.PublicKeySize {
			return ssh.NewPublicKey(ed25519.PublicKey(b))
		}
		k, err := x509.ParsePKIXPublicKey(b)
		if key, isEd := k.(ed25519.PublicKey); err == nil && isEd {
			return ssh.NewPublicKey(key)
		}
		return nil, errors.New("it is not an Ed25519 key")
	}
	k, _, _, rest, err := ssh.ParseAuthorizedKey([]byte(s))
	if err != nil || len(strings.TrimSpace(string(rest))) > 0 {
		return nil, errors.New(`it is not a public key, such as "ssh-ed25519 AAAA…" or "ed25519 …"`)
	}
	return k, nil
}

// Fingerprint is that of a public key, as SSH shows it.
func Fingerprint(k ssh.PublicKey) string { return ssh.FingerprintSHA256(k) }
