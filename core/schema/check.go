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
// with every value in its schema's kind, and all faults found. It takes the
// inputs over: what it returns is made of them. Pending values pass where the
// schema cannot tell yet. Secret attributes given in clear are the caller's
// business.
func (t *Type) Check(inputs value.Map) (value.Map, []Fault) {
	var faults []Fault
	all, known := len(inputs), 0
	for _, a := range t.Attributes {
		v, given := inputs[a.Name]
		if given {
			known++
		}
		switch {
		case a.Output && given:
			faults = append(faults, Fault{Path: value.Path{value.Key(a.Name)},
				Message: fmt.Sprintf("%s is decided by the cloud and cannot be given", a.Name)})
			delete(inputs, a.Name)
		case v != nil:
			v, fs := a.check(v)
			for _, f := range fs {
				faults = append(faults, f.in(value.Path{value.Key(a.Name)}))
			}
			inputs[a.Name] = v
		default:
			if a.Required && !a.Output {
				faults = append(faults, Fault{Path: value.Path{value.Key(a.Name)},
					Message: fmt.Sprintf("%s is required and missing", a.Name)})
			}
			if given {
				delete(inputs, a.Name)
			}
		}
	}
	if known == all {
		return inputs, faults
	}
	for _, name := range value.Keys(inputs) {
		if t.Attribute(name) == nil {
			f := Fault{Path: value.Path{value.Key(name)}, Message: fmt.Sprintf("%s has no attribute %q",
				WithArticle(t.Name), name)}
			f.Hint = nearest.Hint(name, t.AttributeNames())
			faults = append(faults, f)
			delete(inputs, name)
		}
	}
	return inputs, faults
}

// Check holds one value, which is at path, against the attribute and
// returns it in the attribute's kind, with all faults found in it. Lists and
// maps are changed in place.
func (a *Attribute) Check(v any, path value.Path) (any, []Fault) {
	v, faults := a.check(v)
	var out []Fault
	for _, f := range faults {
		out = append(out, f.in(path))
	}
	return v, out
}

// fault is one thing wrong with what a value holds. Its paths begin at the
// value, so that they are only made when something is wrong.
type fault struct {
	about  value.Path // what the words are about
	beyond value.Path // from there to the fault
	words  string     // what follows the path
	hint   string
}

func (f fault) in(path value.Path) Fault {
	about := append(path[:len(path):len(path)], f.about...)
	return Fault{Path: append(about[:len(about):len(about)], f.beyond...), Message: about.String() + f.words,
		Hint: f.hint}
}

// below are faults of a part as those of the whole.
func below(s value.Step, faults []fault) []fault {
	for i := range faults {
		faults[i].about = append(value.Path{s}, faults[i].about...)
	}
	return faults
}

func wrong(format string, args ...any) []fault { return []fault{{words: fmt.Sprintf(format, args...)}} }

func (a *Attribute) check(v any) (any, []fault) {
	if p, ok := v.(*value.Pending); ok {
		if p.Ref == nil && a.Kind != Text && a.Kind != Any {
			return v, wrong(" must be %s, not a text made from pending values", article(a.Kind))
		}
		return v, nil
	}
	switch a.Kind {
	case Text:
		s, ok := v.(string)
		if !ok {
			return v, wrong(" must be a text, not %s", article(Kind(value.Kind(v))))
		}
		if !utf8.ValidString(s) {
			return v, wrong(" holds bytes that are not UTF-8")
		}
		v = a.Canonical(s)
	case Int:
		switch n := v.(type) {
		case int64:
		case float64:
			if n != math.Trunc(n) || math.Abs(n) >= 1<<53 {
				return v, wrong(" must be a whole number, not %v", n)
			}
			v = int64(n)
		default:
			return v, wrong(" must be a whole number, not %s", article(Kind(value.Kind(v))))
		}
	case Number:
		switch n := v.(type) {
		case int64:
			v = float64(n)
		case float64:
		default:
			return v, wrong(" must be a number, not %s", article(Kind(value.Kind(v))))
		}
	case Bool:
		if _, ok := v.(bool); !ok {
			return v, wrong(" must be True or False, not %s", article(Kind(value.Kind(v))))
		}
	case List:
		list, ok := v.([]any)
		if !ok {
			return v, wrong(" must be a list, not %s", article(Kind(value.Kind(v))))
		}
		faults := a.checkList(list)
		return a.Canonical(list), faults
	case MapOf, Record:
		m, ok := v.(map[string]any)
		if !ok {
			return v, wrong(" must be a %s, not %s", a.Kind, article(Kind(value.Kind(v))))
		}
		faults := a.checkMap(m)
		return a.Canonical(m), faults
	}
	return v, a.checkBounds(v)
}

func (a *Attribute) checkList(list []any) []fault {
	var faults []fault
	if a.Elem != nil {
		for i := range list {
			v, fs := a.Elem.check(list[i])
			list[i] = v
			faults = append(faults, below(value.Item(i), fs)...)
		}
	}
	return append(faults, a.checkLength(len(list), "items")...)
}

func (a *Attribute) checkMap(m value.Map) []fault {
	var faults []fault
	for _, k := range value.Keys(m) {
		elem := a.Elem
		if a.Kind == Record {
			if elem = linear(a.Fields, k); elem == nil {
				var names []string
				for _, f := range a.Fields {
					names = append(names, f.Name)
				}
				faults = append(faults, fault{beyond: value.Path{value.Key(k)}, words: fmt.Sprintf(" has no field %q",
					k), hint: nearest.Hint(k, names)})
				delete(m, k)
				continue
			}
		}
		if elem != nil && m[k] != nil {
			v, fs := elem.check(m[k])
			m[k] = v
			faults = append(faults, below(value.Key(k), fs)...)
		}
	}
	for _, f := range a.Fields {
		if _, ok := m[f.Name]; f.Required && !ok {
			faults = append(faults, below(value.Key(f.Name), wrong(" is required and missing"))...)
		}
	}
	return append(faults, a.checkLength(len(m), "keys")...)
}

func (a *Attribute) checkLength(n int, what string) []fault {
	if a.MinLength != nil && n < *a.MinLength {
		return wrong(" has %d %s, and at least %d are wanted", n, what, *a.MinLength)
	}
	if a.MaxLength != nil && n > *a.MaxLength {
		return wrong(" has %d %s, and at most %d are allowed", n, what, *a.MaxLength)
	}
	return nil
}

// checkBounds holds a scalar of the right kind against the constraints.
func (a *Attribute) checkBounds(v any) []fault {
	if len(a.OneOf) > 0 {
		for _, o := range a.OneOf {
			if value.Equal(o, v) {
				return nil
			}
		}
		var names []string
		for _, o := range a.OneOf {
			names = append(names, value.Plain(o))
		}
		out := wrong(": %s is not one of %s", quote(v), strings.Join(names, ", "))
		out[0].hint = nearest.Hint(value.Plain(v), names)
		return out
	}
	if n, ok := number(v); ok {
		if a.Min != nil && n < *a.Min {
			return wrong(": %s is less than %s", value.Plain(v), value.Plain(*a.Min))
		}
		if a.Max != nil && n > *a.Max {
			return wrong(": %s is more than %s", value.Plain(v), value.Plain(*a.Max))
		}
	}
	s, ok := v.(string)
	if !ok {
		return nil
	}
	if fs := a.checkLength(utf8.RuneCountInString(s), "characters"); fs != nil {
		return fs
	}
	if a.Pattern != "" {
		re, err := a.pattern()
		if err != nil {
			return wrong(": the schema's pattern %q cannot be used: %v", a.Pattern, err)
		}
		if !re.MatchString(s) {
			return wrong(": %s does not match %s", quote(s), a.Pattern)
		}
	}
	switch a.Format {
	case "cidr":
		if msg := checkRange(s); msg != "" {
			return wrong(": %s", msg)
		}
	case FormatSpan, FormatTimespan:
		if _, err := time.ParseDuration(s); err != nil {
			return wrong(": %q is not a duration such as 90s or 1h30m", s)
		}
	case "duration": // some documents call those of the other kind so, too
		if _, err := time.ParseDuration(s); err != nil && !isISODuration(s) {
			return wrong(": %q is not a duration such as PT90S or PT1H30M", s)
		}
	case "google-duration":
		if _, err := time.ParseDuration(s); err != nil || !strings.HasSuffix(s, "s") {
			return wrong(": %q is not a duration such as 90s", s)
		}
	}
	return nil
}

// checkRange says what is wrong with an address range in CIDR notation
// (RFC 4632), or nothing.
func checkRange(s string) string {
	p, err := netip.ParsePrefix(s)
	if err != nil {
		return fmt.Sprintf("%q is not an address range such as 10.20.0.0/16", s)
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

func (a *Attribute) pattern() (*regexp.Regexp, error) {
	if a.re != nil {
		return a.re, nil
	}
	return regexp.Compile(a.Pattern)
}
