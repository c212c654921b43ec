package schema

import (
	"fmt"
	"math"
	"net/netip"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"kasbah/core/nearest"
	"kasbah/core/value"
)

// Fault is one thing wrong with a value.
type Fault struct {
	Path    value.Path
	Message string // a sentence without a full stop
	Hint    string // what to do, or empty
}

// Check holds the inputs of a declaration against the type and returns them
// with every value in its schema's kind, and all faults found. Pending values
// pass where the schema cannot tell yet. Secret attributes given in clear are
// the caller's business.
func (t *Type) Check(inputs value.Map) (value.Map, []Fault) {
	var faults []Fault
	out := make(value.Map, len(inputs))
	for _, name := range value.Keys(inputs) {
		v := inputs[name]
		a := t.Attribute(name)
		path := value.Path{value.Key(name)}
		if a == nil {
			f := Fault{Path: path, Message: fmt.Sprintf("a %s has no attribute %q", t.Name, name)}
			f.Hint = nearest.Hint(name, t.AttributeNames())
			faults = append(faults, f)
			continue
		}
		if a.Output {
			faults = append(faults, Fault{Path: path, Message: fmt.Sprintf("%s is decided by the cloud and cannot be given", name)})
			continue
		}
		if v == nil {
			continue
		}
		v, fs := a.Check(v, path)
		faults = append(faults, fs...)
		out[name] = v
	}
	for _, a := range t.Attributes {
		if a.Required && !a.Output {
			if v, ok := inputs[a.Name]; !ok || v == nil {
				faults = append(faults, Fault{Path: value.Path{value.Key(a.Name)}, Message: fmt.Sprintf("%s is required and missing", a.Name)})
			}
		}
	}
	return out, faults
}

// Check holds one value against the attribute and returns it in the
// attribute's kind, with all faults found in it.
func (a *Attribute) Check(v any, path value.Path) (any, []Fault) {
	fault := func(format string, args ...any) []Fault {
		return []Fault{{Path: path, Message: fmt.Sprintf(format, args...)}}
	}
	if p, ok := v.(*value.Pending); ok {
		if p.Ref == nil && a.Kind != Text && a.Kind != Any {
			return v, fault("%s wants %s, and this is a text made from pending values", path, article(a.Kind))
		}
		return v, nil
	}
	switch a.Kind {
	case Text:
		s, ok := v.(string)
		if !ok {
			return v, fault("%s wants a text, and this is %s", path, article(Kind(value.Kind(v))))
		}
		if !utf8.ValidString(s) {
			return v, fault("%s holds bytes that are no UTF-8", path)
		}
	case Int:
		switch n := v.(type) {
		case int64:
		case float64:
			if n != math.Trunc(n) || math.Abs(n) >= 1<<53 {
				return v, fault("%s wants a whole number, and this is %v", path, n)
			}
			v = int64(n)
		default:
			return v, fault("%s wants a whole number, and this is %s", path, article(Kind(value.Kind(v))))
		}
	case Number:
		switch n := v.(type) {
		case int64:
			v = float64(n)
		case float64:
		default:
			return v, fault("%s wants a number, and this is %s", path, article(Kind(value.Kind(v))))
		}
	case Bool:
		if _, ok := v.(bool); !ok {
			return v, fault("%s wants True or False, and this is %s", path, article(Kind(value.Kind(v))))
		}
	case List:
		list, ok := v.([]any)
		if !ok {
			return v, fault("%s wants a list, and this is %s", path, article(Kind(value.Kind(v))))
		}
		return a.checkList(list, path)
	case MapOf, Record:
		m, ok := v.(map[string]any)
		if !ok {
			return v, fault("%s wants a %s, and this is %s", path, a.Kind, article(Kind(value.Kind(v))))
		}
		return a.checkMap(m, path)
	}
	return v, a.checkBounds(v, path)
}

func (a *Attribute) checkList(list []any, path value.Path) (any, []Fault) {
	var faults []Fault
	out := make([]any, len(list))
	for i, e := range list {
		out[i] = e
		if a.Elem != nil {
			v, fs := a.Elem.Check(e, below(path, value.Item(i)))
			out[i] = v
			faults = append(faults, fs...)
		}
	}
	return out, append(faults, a.checkLength(len(list), "items", path)...)
}

func (a *Attribute) checkMap(m value.Map, path value.Path) (any, []Fault) {
	var faults []Fault
	out := make(value.Map, len(m))
	for _, k := range value.Keys(m) {
		elem := a.Elem
		at := below(path, value.Key(k))
		if a.Kind == Record {
			if elem = linear(a.Fields, k); elem == nil {
				var names []string
				for _, f := range a.Fields {
					names = append(names, f.Name)
				}
				faults = append(faults, Fault{Path: at, Message: fmt.Sprintf("%s has no field %q", path, k), Hint: nearest.Hint(k, names)})
				continue
			}
		}
		out[k] = m[k]
		if elem != nil && m[k] != nil {
			v, fs := elem.Check(m[k], at)
			out[k] = v
			faults = append(faults, fs...)
		}
	}
	for _, f := range a.Fields {
		if _, ok := m[f.Name]; f.Required && !ok {
			faults = append(faults, Fault{Path: below(path, value.Key(f.Name)), Message: fmt.Sprintf("%s.%s is required and missing", path, f.Name)})
		}
	}
	return out, append(faults, a.checkLength(len(m), "keys", path)...)
}

func (a *Attribute) checkLength(n int, what string, path value.Path) []Fault {
	if a.MinLength != nil && n < *a.MinLength {
		return []Fault{{Path: path, Message: fmt.Sprintf("%s has %d %s, and at least %d are wanted", path, n, what, *a.MinLength)}}
	}
	if a.MaxLength != nil && n > *a.MaxLength {
		return []Fault{{Path: path, Message: fmt.Sprintf("%s has %d %s, and at most %d are allowed", path, n, what, *a.MaxLength)}}
	}
	return nil
}

// checkBounds holds a scalar of the right kind against the constraints.
func (a *Attribute) checkBounds(v any, path value.Path) []Fault {
	fault := func(hint, format string, args ...any) []Fault {
		return []Fault{{Path: path, Message: fmt.Sprintf(format, args...), Hint: hint}}
	}
	if len(a.OneOf) > 0 {
		var names []string
		for _, o := range a.OneOf {
			if value.Equal(o, v) {
				return nil
			}
			names = append(names, value.Plain(o))
		}
		return fault(nearest.Hint(value.Plain(v), names), "%s: %s is not one of %s", path, quote(v), strings.Join(names, ", "))
	}
	if n, ok := number(v); ok {
		if a.Min != nil && n < *a.Min {
			return fault("", "%s: %s is less than %s", path, value.Plain(v), value.Plain(*a.Min))
		}
		if a.Max != nil && n > *a.Max {
			return fault("", "%s: %s is more than %s", path, value.Plain(v), value.Plain(*a.Max))
		}
	}
	s, ok := v.(string)
	if !ok {
		return nil
	}
	if fs := a.checkLength(utf8.RuneCountInString(s), "characters", path); fs != nil {
		return fs
	}
	if a.Pattern != "" {
		re, err := a.pattern()
		if err != nil {
			return fault("", "%s: the schema's pattern %q cannot be used: %v", path, a.Pattern, err)
		}
		if !re.MatchString(s) {
			return fault("", "%s: %s does not match %s", path, quote(s), a.Pattern)
		}
	}
	switch a.Format {
	case "cidr":
		if msg := checkRange(s); msg != "" {
			return fault("", "%s: %s", path, msg)
		}
	case "duration":
		if _, err := time.ParseDuration(s); err != nil {
			return fault("", "%s: %q is no duration such as 90s or 1h30m", path, s)
		}
	}
	return nil
}

// checkRange says what is wrong with an address range in CIDR notation
// (RFC 4632), or nothing.
func checkRange(s string) string {
	p, err := netip.ParsePrefix(s)
	if err != nil {
		return fmt.Sprintf("%q is no address range such as 10.20.0.0/16", s)
	}
	if p.Masked() != p {
		return fmt.Sprintf("%q has bits set beyond its prefix; the range is %s", s, p.Masked())
	}
	return ""
}

func number(v any) (float64, bool) {
	switch n := v.(type) {
	case int64:
		return float64(n), true
	case float64:
		return n, true
	}
	return 0, false
}

func quote(v any) string {
	if s, ok := v.(string); ok {
		if len(s) > 60 {
			s = s[:57] + "…"
		}
		return fmt.Sprintf("%q", s)
	}
	return value.Plain(v)
}

func article(k Kind) string {
	switch k {
	case Int:
		return "a whole number"
	case Any:
		return "any value"
	case "none":
		return "None"
	}
	return "a " + string(k)
}

func below(p value.Path, s value.Step) value.Path {
	return append(append(value.Path(nil), p...), s)
}

func (a *Attribute) pattern() (*regexp.Regexp, error) {
	if a.re != nil {
		return a.re, nil
	}
	return regexp.Compile(a.Pattern)
}
