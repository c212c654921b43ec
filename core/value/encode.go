package value

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// pendingKey marks the object that stands for a pending value in JSON. A key
// of a real map that starts with "$" is written with one more, so the two are
// never confused.
const pendingKey = "$pending"

type pendingJSON struct {
	Address string     `json:"address,omitempty"`
	Path    string     `json:"path,omitempty"`
	Secret  bool       `json:"secret,omitempty"`
	Parts   []partJSON `json:"parts,omitempty"`
}

type partJSON struct {
	Text  string          `json:"text,omitempty"`
	Value json.RawMessage `json:"value,omitempty"`
	As    Encoding        `json:"as,omitempty"`
}

// Encode writes v as JSON in one canonical way: keys in byte order, no
// spaces, whole numbers without a point, no escapes but those JSON demands.
// Equal values have equal encodings.
func Encode(v any) []byte { return Append(nil, v) }

// Append is Encode onto b.
func Append(b []byte, v any) []byte { return write(b, v, true) }

// JSON writes v as JSON for others, who know no pending values: keys are as
// they are. A pending value has no business there; it panics.
func JSON(v any) []byte { return write(nil, v, false) }

func write(b []byte, v any, ours bool) []byte {
	switch v := v.(type) {
	case nil:
		return append(b, "null"...)
	case bool:
		return strconv.AppendBool(b, v)
	case int64:
		return strconv.AppendInt(b, v, 10)
	case float64:
		if v == math.Trunc(v) && math.Abs(v) < 1<<53 {
			return strconv.AppendInt(b, int64(v), 10)
		}
		return strconv.AppendFloat(b, v, 'g', -1, 64)
	case string:
		return AppendText(b, v)
	case []any:
		b = append(b, '[')
		for i, e := range v {
			if i > 0 {
				b = append(b, ',')
			}
			b = write(b, e, ours)
		}
		return append(b, ']')
	case map[string]any:
		b = append(b, '{')
		for i, k := range sorted(v, make([]string, 0, few)) {
			if i > 0 {
				b = append(b, ',')
			}
			if ours && strings.HasPrefix(k, "$") {
				b = AppendText(b, "$"+k)
			} else {
				b = AppendText(b, k)
			}
			b = append(b, ':')
			b = write(b, v[k], ours)
		}
		return append(b, '}')
	case *Pending:
		if !ours {
			break
		}
		b = append(b, `{"`+pendingKey+`":`...)
		return append(v.append(b), '}')
	}
	panic(fmt.Sprintf("value: %T is not a value", v)) // Normal keeps these out
}

// append writes what pendingJSON reads.
func (p *Pending) append(b []byte) []byte {
	b = append(b, '{')
	field := func(key string) {
		if b[len(b)-1] != '{' {
			b = append(b, ',')
		}
		b = append(append(append(b, '"'), key...), `":`...)
	}
	text := func(key, s string) {
		if s != "" {
			field(key)
			b = AppendText(b, s)
		}
	}
	if p.Ref != nil {
		text("address", p.Ref.Address)
		text("path", p.Ref.Path.String())
		if p.Ref.Secret {
			field("secret")
			b = append(b, "true"...)
		}
	}
	if len(p.Parts) > 0 {
		field("parts")
		b = append(b, '[')
		for i, part := range p.Parts {
			if i > 0 {
				b = append(b, ',')
			}
			b = append(b, '{')
			text("text", part.Text)
			if part.Value != nil {
				field("value")
				b = Append(b, part.Value)
			}
			text("as", string(part.As))
			b = append(b, '}')
		}
		b = append(b, ']')
	}
	return append(b, '}')
}

const digits = "0123456789abcdef"

// AppendText writes a text as Append does.
func AppendText(b []byte, s string) []byte {
	b = append(b, '"')
	start := 0
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= 0x20 && c != '"' && c != '\\' {
			continue
		}
		b = append(b, s[start:i]...)
		switch c {
		case '"', '\\':
			b = append(b, '\\', c)
		case '\n':
			b = append(b, '\\', 'n')
		case '\t':
			b = append(b, '\\', 't')
		case '\r':
			b = append(b, '\\', 'r')
		default:
			b = append(b, '\\', 'u', '0', '0', digits[c>>4], digits[c&15])
		}
		start = i + 1
	}
	b = append(b, s[start:]...)
	return append(b, '"')
}

// Decode reads what Encode writes.
func Decode(body []byte) (any, error) { return parse(body, true) }

// decodePending reads what stands under the key of a pending value.
func decodePending(body []byte) (p *Pending, err error) {
	var j pendingJSON
	if err := json.Unmarshal(body, &j); err != nil {
		return nil, fmt.Errorf("a pending value: %w", err)
	}
	if j.Address != "" {
		path, err := ParsePath(j.Path)
		if err != nil {
			return nil, err
		}
		return &Pending{Ref: &Ref{Address: j.Address, Path: path, Secret: j.Secret}}, nil
	}
	p = &Pending{}
	for _, pj := range j.Parts {
		part := Part{Text: pj.Text, As: pj.As}
		if pj.Value != nil {
			if part.Value, err = Decode(pj.Value); err != nil {
				return nil, err
			}
		}
		p.Parts = append(p.Parts, part)
	}
	return p, nil
}

// Attributes is a Map that keeps its pending values and whole numbers through
// JSON. Use it as the type of a struct field.
type Attributes Map

// MarshalJSON writes the attributes canonically.
func (a Attributes) MarshalJSON() ([]byte, error) {
	if a == nil {
		return []byte("null"), nil
	}
	return Encode(Map(a)), nil
}

// UnmarshalJSON reads what MarshalJSON writes.
func (a *Attributes) UnmarshalJSON(body []byte) error {
	v, err := Decode(body)
	if err != nil {
		return err
	}
	switch v := v.(type) {
	case nil:
		*a = nil
	case map[string]any:
		*a = v
	default:
		return fmt.Errorf("attributes are a %s, not a map", Kind(v))
	}
	return nil
}

// Any is a value that keeps its pending values and whole numbers through
// JSON. Use it as the type of a struct field.
type Any struct{ V any }

// MarshalJSON writes the value canonically.
func (a Any) MarshalJSON() ([]byte, error) { return Encode(a.V), nil }

// UnmarshalJSON reads what MarshalJSON writes.
func (a *Any) UnmarshalJSON(body []byte) (err error) {
	a.V, err = Decode(body)
	return err
}

// Fingerprint is a short digest of a value: the first 16 bytes of the
// SHA-256 of its encoding. Different fingerprints mean different values.
type Fingerprint [16]byte

// FingerprintOf digests a value that Append has written.
func FingerprintOf(body []byte) Fingerprint {
	sum := sha256.Sum256(body)
	return Fingerprint(sum[:16])
}

// String is the fingerprint in hexadecimal.
func (f Fingerprint) String() string { return hex.EncodeToString(f[:]) }

// Is reports whether a text is the fingerprint's.
func (f Fingerprint) Is(text string) bool {
	var b [2 * len(f)]byte
	hex.Encode(b[:], f[:])
	return text == string(b[:])
}
