// Package schema describes the resource types that a driver offers: their
// attributes, what each may hold, and what the cloud behind them guarantees.
package schema

import (
	"regexp"
	"slices"
	"sort"
	"time"

	"kasbah/core/value"
)

// Kind is the kind of an attribute's value.
type Kind string

const (
	Text   Kind = "text"
	Int    Kind = "int"
	Number Kind = "number"
	Bool   Kind = "bool"
	List   Kind = "list"
	MapOf  Kind = "map"    // keys are the user's, values all of one kind
	Record Kind = "record" // keys are the schema's
	Any    Kind = "any"
)

// Catalog is everything one driver offers.
type Catalog struct {
	Version string           `json:"version"` // of the described API; recorded with each resource
	Types   map[string]*Type `json:"types"`
}

// Names lists the types in byte order.
func (c *Catalog) Names() []string { return value.Keys(c.Types) }

// Type describes one resource type.
type Type struct {
	Name       string       `json:"name"`
	Help       string       `json:"help,omitempty"`
	Attributes []*Attribute `json:"attributes,omitempty"` // in the order of the description
	ID         string       `json:"id,omitempty"`         // the attribute that identifies a thing to its cloud

	HoldsData  bool     `json:"holds_data,omitempty"`  // dropping one loses data
	Copies     bool     `json:"copies,omitempty"`      // the cloud can copy a thing, with its data, into one of its own
	UniqueName bool     `json:"unique_name,omitempty"` // the cloud refuses a second one of the same name, so a swap drops first
	DropFirst  bool     `json:"drop_first,omitempty"`  // two cannot exist side by side for another reason
	Identify   []string `json:"identify,omitempty"`    // attributes that together identify one thing

	KeyMemory time.Duration `json:"key_memory,omitempty"` // how long an idempotency key is remembered; 0 means never
	Tags      bool          `json:"tags,omitempty"`       // things carry entity tags, and writes may name the one they saw
	Locate    bool          `json:"locate,omitempty"`     // the driver can find what a key made
	Price     *Price        `json:"price,omitempty"`      // nil when the cloud does not say

	byName map[string]*Attribute
}

// Attribute describes one attribute of a type, or one field of a record.
type Attribute struct {
	Name string     `json:"name"`
	Help string     `json:"help,omitempty"`
	Kind Kind       `json:"kind"`
	Elem *Attribute `json:"elem,omitempty"` // of a list's or map's values

	Fields []*Attribute `json:"fields,omitempty"` // of a record

	Required bool   `json:"required,omitempty"`
	Output   bool   `json:"output,omitempty"` // decided by the cloud; cannot be given
	Fixed    bool   `json:"fixed,omitempty"`  // a change needs a swap
	Secret   bool   `json:"secret,omitempty"`
	Security bool   `json:"security,omitempty"` // a change touches security
	Moves    bool   `json:"moves,omitempty"`    // an output that work on what refers to the thing moves
	Unshown  bool   `json:"unshown,omitempty"`  // an input that the cloud never shows: the record answers for it
	Refers   string `json:"refers,omitempty"`   // the type whose id this is

	Default    any  `json:"default,omitempty"` // what the cloud uses when the attribute is left out
	HasDefault bool `json:"has_default,omitempty"`

	OneOf     []any    `json:"one_of,omitempty"`
	Min       *float64 `json:"min,omitempty"`
	Max       *float64 `json:"max,omitempty"`
	MinLength *int     `json:"min_length,omitempty"`
	MaxLength *int     `json:"max_length,omitempty"`
	Pattern   string   `json:"pattern,omitempty"` // an unanchored regular expression
	Format    string   `json:"format,omitempty"`  // as OpenAPI names it: cidr, date-time, uri, …

	re *regexp.Regexp // of Pattern, once prepared
}

// Attribute finds an attribute by its schema name; nil when there is none.
func (t *Type) Attribute(name string) *Attribute {
	if t.byName == nil {
		return linear(t.Attributes, name)
	}
	return t.byName[name]
}

// Canonical is a value of the attribute in the one form in which such values are compared:
// an instant (format date-time, RFC 3339) in UTC, without zeros behind its seconds. A cloud
// may write it otherwise than it was given.
func (a *Attribute) Canonical(v any) any {
	switch v := v.(type) {
	case string:
		if a.Kind != Text || a.Format != "date-time" {
			return v
		}
		if at, err := time.Parse(time.RFC3339Nano, v); err == nil {
			return at.UTC().Format(time.RFC3339Nano)
		}
	case []any:
		if a.Elem != nil && a.Elem.instants() {
			for i := range v {
				v[i] = a.Elem.Canonical(v[i])
			}
		}
	case map[string]any:
		for name, x := range v {
			if b := a.below(value.Key(name)); b != nil && b.instants() {
				v[name] = b.Canonical(x)
			}
		}
	}
	return v
}

// instants reports whether values of the attribute hold instants.
func (a *Attribute) instants() bool {
	return a.Format == "date-time" || a.Elem != nil && a.Elem.instants() || slices.ContainsFunc(a.Fields, (*Attribute).instants)
}

// Leads reports whether an attribute refers to things: to one, or to a list of them.
func (a *Attribute) Leads() bool {
	return a.Refers != "" || a.Kind == List && a.Elem != nil && a.Elem.Refers != ""
}

func linear(list []*Attribute, name string) *Attribute {
	for _, a := range list {
		if a.Name == name {
			return a
		}
	}
	return nil
}

// Index prepares fast lookups and patterns. Call it once the type is complete and before
// it is shared between goroutines.
func (t *Type) Index() {
	t.byName = make(map[string]*Attribute, len(t.Attributes))
	for _, a := range t.Attributes {
		t.byName[a.Name] = a
		a.prepare()
	}
}

// prepare compiles patterns ahead. One that Go cannot compile is reported
// when a value meets it.
func (a *Attribute) prepare() {
	if a == nil {
		return
	}
	if a.Pattern != "" {
		if re, err := regexp.Compile(a.Pattern); err == nil {
			a.re = re
		}
	}
	a.Elem.prepare()
	for _, f := range a.Fields {
		f.prepare()
	}
}

// Inputs lists the attributes that a declaration may give.
func (t *Type) Inputs() []*Attribute {
	var out []*Attribute
	for _, a := range t.Attributes {
		if !a.Output {
			out = append(out, a)
		}
	}
	return out
}

// NamedByPattern reports whether the estate's name pattern fills this type's
// name when a declaration leaves it out: there is a text attribute "name"
// that may be left out. A required name means something outside the estate.
func (t *Type) NamedByPattern() bool {
	a := t.Attribute("name")
	return a != nil && a.Kind == Text && !a.Required && !a.Output
}

// Order is how the two halves of a swap follow each other.
func (t *Type) Order() string {
	if t.UniqueName || t.DropFirst {
		return "drop-first"
	}
	return "create-first"
}

// AttributeNames lists the input names in byte order, for hints.
func (t *Type) AttributeNames() []string {
	var out []string
	for _, a := range t.Inputs() {
		out = append(out, a.Name)
	}
	sort.Strings(out)
	return out
}

// Lookup finds the attribute at a path; nil where the schema says nothing.
func (t *Type) Lookup(p value.Path) *Attribute {
	if len(p) == 0 {
		return nil
	}
	a := t.Attribute(p[0].Key)
	for _, s := range p[1:] {
		if a == nil {
			return nil
		}
		a = a.below(s)
	}
	return a
}

func (a *Attribute) below(s value.Step) *Attribute {
	switch {
	case a.Kind == List && s.Item, a.Kind == MapOf && !s.Item:
		return a.Elem
	case a.Kind == Record && !s.Item:
		return linear(a.Fields, s.Key)
	}
	return nil
}
