package schema

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"kasbah/core/value"
)

// Difference is one way in which a catalogue is not as it was.
type Difference struct {
	Type      string `json:"type"`
	Attribute string `json:"attribute,omitempty"` // its path in the type; "" for the type as a whole
	What      string `json:"what"`
	Breaks    bool   `json:"breaks"` // a declaration that was good may not be any more, or do something else
}

// Compare lists how a catalogue differs from what it was, by type and attribute.
// Words and prices are not compared.
func Compare(was, is *Catalog) []Difference {
	var out []Difference
	for _, name := range union(was.Types, is.Types) {
		old, now := was.Types[name], is.Types[name]
		switch {
		case old == nil:
			out = append(out, Difference{Type: name, What: "is new"})
		case now == nil:
			out = append(out, Difference{Type: name, What: "is gone", Breaks: true})
		default:
			c := comparison{typ: name}
			c.types(old, now)
			out = append(out, c.found...)
		}
	}
	return out
}

func union[V any](a, b map[string]V) []string {
	all := map[string]bool{}
	for _, m := range []map[string]V{a, b} {
		for k := range m {
			all[k] = true
		}
	}
	return value.Keys(all)
}

type comparison struct {
	typ   string
	found []Difference
}

func (c *comparison) note(at string, breaks bool, format string, args ...any) {
	c.found = append(c.found, Difference{Type: c.typ, Attribute: at, What: fmt.Sprintf(format, args...),
		Breaks: breaks})
}

// turned notes a property that is there now, or is not any more. good says which of
// them no declaration minds; neither where it is nil.
func (c *comparison) turned(at string, was, is bool, on, off string, good *bool) {
	if was == is {
		return
	}
	what := off
	if is {
		what = on
	}
	c.note(at, good == nil || is != *good, "%s", what)
}

func (c *comparison) types(was, is *Type) {
	yes, no := true, false
	if was.ID != is.ID {
		c.note("", true, "is identified by %s, and was by %s", is.ID, was.ID)
	}
	c.turned("", was.HoldsData, is.HoldsData, "holds data now", "holds no data any more", &no)
	c.turned("", was.Copies, is.Copies, "can be copied now", "cannot be copied any more", &yes)
	c.turned("", was.Order() == "drop-first", is.Order() == "drop-first", "a swap drops the old one first now",
		"a swap makes the new one first now", nil)
	c.turned("", was.Tags, is.Tags, "carries entity tags now", "carries no entity tags any more", &yes)
	c.turned("", was.Locate, is.Locate, "what a key made can be located now",
		"what a key made cannot be located any more", &yes)
	c.turned("", was.Unshown, is.Unshown, "is not shown any more, and compared with the record alone", "is shown now",
		&no)
	c.turned("", was.Unlisted, is.Unlisted, "is not listed any more", "is listed now", &no)
	c.turned("", was.NameStays != 0, is.NameStays != 0, "keeps its name taken after it is gone",
		"does not keep its name taken any more", &no)
	if was.KeyMemory != is.KeyMemory {
		c.note("", is.KeyMemory < was.KeyMemory, "remembers keys for %s, and did for %s", Span(is.KeyMemory),
			Span(was.KeyMemory))
	}
	if !slices.Equal(was.Identify, is.Identify) {
		c.note("", false, "is identified by %s together", strings.Join(is.Identify, " and "))
	}
	c.fields("", was.Attributes, is.Attributes)
}

func (c *comparison) fields(prefix string, was, is []*Attribute) {
	by := func(list []*Attribute) map[string]*Attribute {
		m := make(map[string]*Attribute, len(list))
		for _, a := range list {
			m[a.Name] = a
		}
		return m
	}
	olds, nows := by(was), by(is)
	for _, name := range union(olds, nows) {
		at, old, now := prefix+name, olds[name], nows[name]
		switch {
		case old == nil && now.Required:
			c.note(at, true, "is new, and required")
		case old == nil:
			c.note(at, false, "is new")
		case now == nil:
			c.note(at, true, "is gone")
		default:
			c.attribute(at, old, now)
		}
	}
}

func (c *comparison) attribute(at string, was, is *Attribute) {
	no := false
	if was.Kind != is.Kind {
		c.note(at, true, "is of kind %s, and was of kind %s", is.Kind, was.Kind)
		return
	}
	c.turned(at, was.Output, is.Output, "is decided by the cloud now", "can be given now", &no)
	c.turned(at, was.Required, is.Required, "is required now", "can be left out now", &no)
	c.turned(at, was.Fixed, is.Fixed, "is fixed now: a change makes a swap", "can be changed in place now", &no)
	c.turned(at, was.Secret, is.Secret, "is secret now", "is no secret any more", nil)
	c.turned(at, was.Security, is.Security, "counts for security now", "does not count for security any more", nil)
	c.turned(at, was.Unshown, is.Unshown, "is not shown any more", "is shown now", nil)
	c.turned(at, was.Moves, is.Moves, "moves with the work on what refers to it now",
		"does not move with other work any more", nil)
	if was.Refers != is.Refers {
		c.note(at, true, "refers to %q, and did to %q", is.Refers, was.Refers)
	}
	if was.HasDefault != is.HasDefault || !value.Equal(was.Default, is.Default) {
		c.note(at, true, "is %s where it is left out, and was %s", orNothing(is), orNothing(was))
	}
	c.limits(at, was, is)
	switch {
	case was.Elem != nil && is.Elem != nil:
		c.attribute(at+map[Kind]string{List: "[]"}[is.Kind], was.Elem, is.Elem)
	case was.Kind == Record:
		c.fields(at+".", was.Fields, is.Fields)
	}
}

func orNothing(a *Attribute) string {
	if !a.HasDefault {
		return "not set"
	}
	return value.Plain(a.Default)
}

// limits compares what values are allowed.
func (c *comparison) limits(at string, was, is *Attribute) {
	var less, more []string
	for _, v := range was.OneOf {
		if len(is.OneOf) > 0 && !containsValue(is.OneOf, v) {
			less = append(less, value.Plain(v))
		}
	}
	for _, v := range is.OneOf {
		if len(was.OneOf) > 0 && !containsValue(was.OneOf, v) {
			more = append(more, value.Plain(v))
		}
	}
	if less != nil {
		c.note(at, true, "can no longer be %s", strings.Join(less, ", "))
	}
	if more != nil {
		c.note(at, false, "can also be %s", strings.Join(more, ", "))
	}
	if (len(was.OneOf) == 0) != (len(is.OneOf) == 0) {
		c.note(at, len(is.OneOf) > 0, "%s", map[bool]string{true: "takes only some values now",
			false: "takes any value now"}[len(is.OneOf) > 0])
	}
	type bounds struct {
		Min, Max             *float64
		MinLength, MaxLength *int
		Pattern, Format      string
	}
	of := func(a *Attribute) bounds {
		return bounds{a.Min, a.Max, a.MinLength, a.MaxLength, a.Pattern, a.Format}
	}
	if o, n := of(was), of(is); !reflect.DeepEqual(o, n) {
		tighter := o.Pattern != n.Pattern || o.Format != n.Format || higher(n.Min, o.Min) || higher(o.Max, n.Max) ||
			higher(n.MinLength, o.MinLength) || higher(o.MaxLength, n.MaxLength)
		// a bound that was not there is tighter as well
		tighter = tighter || o.Max == nil && n.Max != nil || o.MaxLength == nil && n.MaxLength != nil || o.Min == nil &&
			n.Min != nil || o.MinLength == nil && n.MinLength != nil
		c.note(at, tighter, "%s", map[bool]string{true: "has other limits, and tighter ones",
			false: "has wider limits"}[tighter])
	}
}

func higher[N int | float64](a, b *N) bool { return a != nil && b != nil && *a > *b }

func containsValue(list []any, v any) bool {
	return slices.ContainsFunc(list, func(x any) bool { return value.Equal(x, v) })
}

// Digest identifies what a catalogue offers: two have the same when Compare finds
// nothing between them.
func (c *Catalog) Digest() (string, error) {
	plain := Catalog{Types: map[string]*Type{}}
	for name, t := range c.Types {
		bare := *t
		bare.Help, bare.Price = "", nil
		bare.Attributes = wordless(t.Attributes)
		plain.Types[name] = &bare
	}
	body, err := json.Marshal(plain)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(body)
	return "sha256:" + hex.EncodeToString(sum[:]), nil
}

// wordless are attributes in the order of their names, without words.
func wordless(list []*Attribute) []*Attribute {
	out := make([]*Attribute, len(list))
	for i, a := range list {
		bare := *a
		bare.Help, bare.Fields = "", wordless(a.Fields)
		if a.Elem != nil {
			bare.Elem = wordless([]*Attribute{a.Elem})[0]
		}
		out[i] = &bare
	}
	slices.SortFunc(out, func(a, b *Attribute) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// ParseCatalog reads a catalogue's JSON form.
func ParseCatalog(body []byte) (*Catalog, error) {
	c := &Catalog{}
	if err := json.Unmarshal(body, c); err != nil {
		return nil, err
	}
	for name, t := range c.Types {
		if t == nil || t.Name != name {
			return nil, fmt.Errorf("the type %s has another name, or none", name)
		}
		for _, a := range t.Attributes {
			if err := a.normal(); err != nil {
				return nil, fmt.Errorf("%s: %w", name, err)
			}
		}
		t.Index()
	}
	return c, nil
}

// normal puts the values of an attribute into the form that all values have.
func (a *Attribute) normal() (err error) {
	if a == nil {
		return fmt.Errorf("an attribute is missing")
	}
	if a.Default, err = value.Normal(a.Default); err != nil {
		return err
	}
	for i := range a.OneOf {
		if a.OneOf[i], err = value.Normal(a.OneOf[i]); err != nil {
			return err
		}
	}
	for _, f := range a.Fields {
		if err := f.normal(); err != nil {
			return err
		}
	}
	if a.Elem != nil {
		return a.Elem.normal()
	}
	return nil
}
