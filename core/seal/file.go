package seal

import (
	"bytes"
	"context"
	"crypto/hmac"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"filippo.io/age"
	"filippo.io/age/armor"
)

// FileHead is the first line inside a sealed file.
type FileHead struct {
	// Recipients are those to whom it is sealed, so that whoever changes it can seal it to
	// the same ones again.
	Recipients []string `json:"recipients"`
	// Proof is HMAC-SHA-256 with the estate's key over what the file was made for: who
	// reads it without that key can prove nothing, and changes nothing unnoticed.
	Proof []byte `json:"proof,omitempty"`
}

// fileKey is the store key under which what a file holds would stand, for its proof.
const fileKey = "file"

// Proof proves with the estate's key that someone who may write the estate made a payload.
func (b *Box) Proof(ctx context.Context, payload []byte) ([]byte, error) {
	e, err := b.Need(ctx)
	if err != nil {
		return nil, err
	}
	return mac(e, fileKey, payload), nil
}

// Proves is ErrForged unless a proof is one of a payload, by the key in force.
func (b *Box) Proves(ctx context.Context, payload, proof []byte) error {
	want, err := b.Proof(ctx, payload)
	if err != nil {
		return err
	}
	if !hmac.Equal(want, proof) {
		return ErrForged
	}
	return nil
}

// SealFile makes a file that only some recipients can read: an age file in its
// text form, with its head as a line of JSON and then the body inside.
func SealFile(body []byte, h FileHead) ([]byte, error) {
	head, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	sealed, err := Encrypt(append(append(head, '\n'), body...), h.Recipients)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w := armor.NewWriter(&out)
	if _, err := w.Write(sealed); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// IsSealedFile reports whether a file looks like one that SealFile made.
func IsSealedFile(body []byte) bool {
	return bytes.HasPrefix(bytes.TrimSpace(body), []byte(armor.Header))
}

// OpenFile reads what SealFile made.
func OpenFile(file []byte, identities func() ([]age.Identity, error)) (body []byte, head *FileHead, err error) {
	ids, err := identities()
	if err != nil {
		return nil, nil, err
	}
	sealed, err := io.ReadAll(armor.NewReader(bytes.NewReader(file)))
	if err != nil {
		return nil, nil, fmt.Errorf("%w (%v)", ErrDamaged, err)
	}
	plain, err := Decrypt(sealed, ids)
	if err != nil {
		return nil, nil, err
	}
	line, body, ok := bytes.Cut(plain, []byte("\n"))
	head = &FileHead{}
	if err := json.Unmarshal(line, head); err != nil || !ok {
		return nil, nil, errors.New("what is sealed in it is not what kasbah keeps")
	}
	return body, head, nil
}
