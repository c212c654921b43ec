package value

import (
	"errors"
	"fmt"
	"strings"
)

// Ref points at a value that is not known while declarations are evaluated:
// an attribute of a resource, by its address with its ward
// (`shore:medina.network/coast`) and the path below it; an attribute of a
// thing that is looked up (FoundAddress); or a secret (SecretAddress).
type Ref struct {
	Address string
	Path    Path
	Secret  bool // the value is never shown and never rests in clear
}

// SecretAddress is what a reference to a secret names. It is no address of a
// resource: those hold no brackets before their first slash.
func SecretAddress(name string) string { return "secret(" + name + ")" }

// SecretName is the name in an address made by SecretAddress.
func SecretName(address string) (string, bool) {
	name, ok := strings.CutPrefix(address, "secret(")
	return strings.TrimSuffix(name, ")"), ok
}

// FoundAddress is what a reference to a thing that is looked up names: its
// ward, its type with the driver, and what it is found by, as one text.
func FoundAddress(ward, typ, by string) string { return InWard(ward, "find("+typ+" "+by+")") }

// IsFound reports whether an address was made by FoundAddress.
func IsFound(address string) bool {
	_, short := SplitWard(address)
	return strings.HasPrefix(short, "find(")
}

// String is the ref as people read it: `medina.network/coast id`.
func (r Ref) String() string {
	ward, _ := SplitWard(r.Address)
	return r.In(ward)
}

// In is the ref as people in a ward read it: with its own ward in front when
// that is another one.
func (r Ref) In(ward string) string {
	name := r.Address
	if w, short := SplitWard(r.Address); w == ward {
		name = short
	}
	if len(r.Path) == 0 {
		return name
	}
	return name + " " + r.Path.String()
}

// Pending is a value that is known only once resources exist. It is either a
// reference (Ref) or a text put together from parts. A Pending never changes
// after it is made, so it may be shared freely.
type Pending struct {
	Ref   *Ref   // the value of one attribute
	Parts []Part // or the pieces of a text, in order
}

// Part is a piece of a pending text: a literal, or a value to be filled in.
type Part struct {
	Text  string   // used when Value is nil
	Value any      // a value holding pending ones
	As    Encoding // how the value is written into the text
}

// Encoding says how a part's value becomes text.
type Encoding string

const (
	AsText Encoding = ""     // as str() writes it
	AsJSON Encoding = "json" // as json.encode() writes it
)

// NewRef makes a pending value that stands for an attribute.
func NewRef(address string, path ...Step) *Pending {
	return &Pending{Ref: &Ref{Address: address, Path: path}}
}

// Below is the pending value found one step below p. Only references have
// something below them; for a text it is nil.
func (p *Pending) Below(s Step) *Pending {
	if p.Ref == nil {
		return nil
	}
	path := append(append(Path(nil), p.Ref.Path...), s)
	return &Pending{Ref: &Ref{Address: p.Ref.Address, Path: path, Secret: p.Ref.Secret}}
}

// Concat joins values into one pending text. Literal texts side by side merge.
func Concat(parts ...Part) *Pending {
	var out []Part
	for _, p := range parts {
		if p.Value == nil {
			if p.Text == "" {
				continue
			}
			if n := len(out); n > 0 && out[n-1].Value == nil {
				out[n-1].Text += p.Text
				continue
			}
		}
		if q, ok := p.Value.(*Pending); ok && p.As == AsText && q.Ref == nil {
			for _, sub := range q.Parts {
				if n := len(out); sub.Value == nil && n > 0 && out[n-1].Value == nil {
					out[n-1].Text += sub.Text
				} else {
					out = append(out, sub)
				}
			}
			continue
		}
		out = append(out, p)
	}
	return &Pending{Parts: out}
}

// String says where the value will come from: `medina.network/coast id`, and
// for a text the pattern with its sources in braces.
func (p *Pending) String() string { return p.written(Ref.String) }

// In is String for people in a ward, as Ref.In says.
func (p *Pending) In(ward string) string {
	return p.written(func(r Ref) string { return r.In(ward) })
}

func (p *Pending) written(ref func(Ref) string) string {
	if p.Ref != nil {
		return ref(*p.Ref)
	}
	var b strings.Builder
	for _, part := range p.Parts {
		if part.Value == nil {
			b.WriteString(part.Text)
			continue
		}
		if q, ok := part.Value.(*Pending); ok {
			b.WriteString("{" + q.written(ref) + "}")
		} else {
			b.WriteString("{" + Plain(part.Value) + "}")
		}
	}
	return b.String()
}

// Refs calls yield for every reference inside v, in order of appearance.
func Refs(v any, yield func(Ref)) {
	switch v := v.(type) {
	case *Pending:
		if v.Ref != nil {
			yield(*v.Ref)
		}
		for _, p := range v.Parts {
			Refs(p.Value, yield)
		}
	case []any:
		for _, e := range v {
			Refs(e, yield)
		}
	case map[string]any:
		for _, k := range sorted(v, make([]string, 0, few)) {
			Refs(v[k], yield)
		}
	}
}

// IsSecret reports whether v is, holds or is made from a secret.
func IsSecret(v any) bool {
	secret := false
	Refs(v, func(r Ref) { secret = secret || r.Secret })
	return secret
}

// IsPending reports whether v is or holds a pending value.
func IsPending(v any) bool {
	switch v := v.(type) {
	case *Pending:
		return true
	case []any:
		for _, e := range v {
			if IsPending(e) {
				return true
			}
		}
	case map[string]any:
		for _, e := range v {
			if IsPending(e) {
				return true
			}
		}
	}
	return false
}

// ErrUnknown is returned by a lookup for an attribute that is not known yet.
var ErrUnknown = errors.New("not known yet")

// Resolve fills in the pending values inside v. The lookup answers with the
// value of an attribute, or ErrUnknown; in that case the pending value stays
// as it is, unless it is part of a text, which then stays pending as a whole.
// Any other error of the lookup ends the work.
func Resolve(v any, lookup func(Ref) (any, error)) (any, error) {
	switch v := v.(type) {
	case *Pending:
		return v.resolve(lookup)
	case []any:
		out := make([]any, len(v))
		for i := range v {
			e, err := Resolve(v[i], lookup)
			if err != nil {
				return nil, err
			}
			out[i] = e
		}
		return out, nil
	case map[string]any:
		out := make(Map, len(v))
		for k := range v {
			e, err := Resolve(v[k], lookup)
			if err != nil {
				return nil, err
			}
			out[k] = e
		}
		return out, nil
	}
	return v, nil
}

func (p *Pending) resolve(lookup func(Ref) (any, error)) (any, error) {
	if p.Ref != nil {
		v, err := lookup(*p.Ref)
		if errors.Is(err, ErrUnknown) {
			return p, nil
		}
		return v, err
	}
	var b strings.Builder
	for _, part := range p.Parts {
		if part.Value == nil {
			b.WriteString(part.Text)
			continue
		}
		v, err := Resolve(part.Value, lookup)
		if err != nil {
			return nil, err
		}
		if IsPending(v) {
			return p, nil
		}
		s, err := written(v, part.As)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p, err)
		}
		b.WriteString(s)
	}
	return b.String(), nil
}

// written turns a known value into the text that str or json.encode give.
func written(v any, as Encoding) (string, error) {
	if as == AsJSON {
		return string(JSON(v)), nil
	}
	switch v := v.(type) {
	case string:
		return v, nil
	case nil:
		return "None", nil
	case bool:
		if v {
			return "True", nil
		}
		return "False", nil
	case int64, float64:
		return Plain(v), nil
	}
	return "", fmt.Errorf("a %s cannot be written into a text", Kind(v))
}
