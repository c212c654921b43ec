package value

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Step is one step of a path: a key of a map or the index of a list.
type Step struct {
	Key   string
	Index int
	Item  bool // Index counts, not Key
}

// Key is a step into a map.
func Key(k string) Step { return Step{Key: k} }

// Item is a step into a list.
func Item(i int) Step { return Step{Index: i, Item: true} }

// Path leads from a resource to a value inside its attributes.
type Path []Step

// String writes a path as `tags.owner` or `ports[0]`; keys that would be
// misread are in quotes inside brackets: `tags["a.b"]`.
func (p Path) String() string {
	if len(p) == 1 && p[0].plain() {
		return p[0].Key
	}
	var b strings.Builder
	for i, s := range p {
		switch {
		case s.Item:
			fmt.Fprintf(&b, "[%d]", s.Index)
		case s.plain():
			if i > 0 {
				b.WriteByte('.')
			}
			b.WriteString(s.Key)
		default:
			b.WriteString("[" + strconv.Quote(s.Key) + "]")
		}
	}
	return b.String()
}

// MarshalText writes what String writes.
func (p Path) MarshalText() ([]byte, error) { return []byte(p.String()), nil }

// UnmarshalText reads what MarshalText writes. A path that leads nowhere is an error.
func (p *Path) UnmarshalText(text []byte) error {
	read, err := ParsePath(string(text))
	if err == nil && len(read) == 0 {
		err = errors.New("a path of attributes is empty")
	}
	*p = read
	return err
}

// plain reports whether a step is a key that needs no quotes.
func (s Step) plain() bool {
	return !s.Item && s.Key != "" && !strings.ContainsAny(s.Key, ".[]\" \t\n")
}

// ParsePath reads what String writes.
func ParsePath(s string) (Path, error) {
	var p Path
	rest := s
	for rest != "" {
		switch {
		case strings.HasPrefix(rest, `["`):
			quoted, err := strconv.QuotedPrefix(rest[1:])
			if err != nil || !strings.HasPrefix(rest[1+len(quoted):], "]") {
				return nil, fmt.Errorf("path %q: a quoted key is not closed", s)
			}
			key, err := strconv.Unquote(quoted)
			if err != nil {
				return nil, fmt.Errorf("path %q: %w", s, err)
			}
			p = append(p, Key(key))
			rest = rest[1+len(quoted)+1:]
		case rest[0] == '[':
			end := strings.IndexByte(rest, ']')
			if end < 0 {
				return nil, fmt.Errorf("path %q: a bracket is not closed", s)
			}
			n, err := strconv.Atoi(rest[1:end])
			if err != nil || n < 0 {
				return nil, fmt.Errorf("path %q: %q is not an index", s, rest[1:end])
			}
			p = append(p, Item(n))
			rest = rest[end+1:]
		default:
			if len(p) > 0 {
				if rest[0] != '.' {
					return nil, fmt.Errorf("path %q: a dot is missing before %q", s, rest)
				}
				rest = rest[1:]
			}
			end := strings.IndexAny(rest, ".[")
			if end < 0 {
				end = len(rest)
			}
			if end == 0 {
				return nil, fmt.Errorf("path %q: a name is missing", s)
			}
			p = append(p, Key(rest[:end]))
			rest = rest[end:]
		}
	}
	return p, nil
}

// At is the value found at p below v, and whether there is one.
func (p Path) At(v any) (any, bool) {
	for _, s := range p {
		switch c := v.(type) {
		case map[string]any:
			if s.Item {
				return nil, false
			}
			next, ok := c[s.Key]
			if !ok {
				return nil, false
			}
			v = next
		case []any:
			if !s.Item || s.Index >= len(c) {
				return nil, false
			}
			v = c[s.Index]
		case *Pending:
			below := c.Below(s)
			if below == nil {
				return nil, false
			}
			v = below
		default:
			return nil, false
		}
	}
	return v, true
}

// HasPrefix reports whether p is at or below q.
func (p Path) HasPrefix(q Path) bool {
	if len(p) < len(q) {
		return false
	}
	for i := range q {
		if p[i] != q[i] {
			return false
		}
	}
	return true
}

// SplitWard splits `shore:medina.network/coast` into ward and address; the
// ward is empty when there is none. A colon inside a name is no ward.
func SplitWard(address string) (ward, rest string) {
	colon := strings.IndexByte(address, ':')
	if colon < 0 || strings.IndexByte(address[:colon], '.') >= 0 || strings.IndexByte(address[:colon], '/') >= 0 {
		return "", address
	}
	return address[:colon], address[colon+1:]
}

// InWard writes an address with its ward.
func InWard(ward, address string) string { return ward + ":" + address }

// Set is v with another value at p; a nil value takes out what is there. v itself stays as it
// is. It reports false where the path leads to nothing that can hold a value.
func (p Path) Set(v, to any) (any, bool) {
	if len(p) == 0 {
		return to, true
	}
	s := p[0]
	switch c := v.(type) {
	case nil:
		if s.Item {
			return nil, false
		}
		return p.Set(map[string]any{}, to)
	case map[string]any:
		if s.Item {
			return nil, false
		}
		below, ok := p[1:].Set(c[s.Key], to)
		if !ok {
			return nil, false
		}
		out := make(map[string]any, len(c)+1)
		for k, x := range c {
			out[k] = x
		}
		if out[s.Key] = below; len(p) == 1 && to == nil {
			delete(out, s.Key)
		}
		return out, true
	case []any:
		if !s.Item || s.Index > len(c) {
			return nil, false
		}
		out := append([]any{}, c...)
		if s.Index == len(c) {
			if len(p) > 1 || to == nil {
				return nil, false
			}
			return append(out, to), true
		}
		if len(p) == 1 && to == nil {
			return append(out[:s.Index], out[s.Index+1:]...), true
		}
		below, ok := p[1:].Set(c[s.Index], to)
		out[s.Index] = below
		return out, ok
	}
	return nil, false
}
