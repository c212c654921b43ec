package seal

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"filippo.io/age"
	"filippo.io/age/armor"
)

// fileHead is the first line inside a sealed file: to whom it is sealed, so
// that whoever changes it can seal it to the same ones again.
type fileHead struct {
	Recipients []string `json:"recipients"`
}

// SealFile makes a file that only some recipients can read: an age file in its
// text form, with a line of JSON and then the body inside.
func SealFile(body []byte, to []string) ([]byte, error) {
	head, err := json.Marshal(fileHead{to})
	if err != nil {
		return nil, err
	}
	sealed, err := Encrypt(append(append(head, '\n'), body...), to)
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

// OpenFile reads what SealFile made, and to whom it is sealed.
func OpenFile(file []byte, identities func() ([]age.Identity, error)) (body []byte, to []string, err error) {
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
	var head fileHead
	if err := json.Unmarshal(line, &head); err != nil || !ok {
		return nil, nil, errors.New("what is sealed in it is not what kasbah keeps")
	}
	return body, head.Recipients, nil
}
