// Package schema describes the resource types that a driver offers: their
// attributes, what each may hold, and what the cloud behind them guarantees.
package schema

import (
	"bytes"
	"math"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
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

// Always is a time that does not end.
const Always time.Duration = -1

// Formats of texts that are durations as 1h30m is one. Those of a span may be written
// again in other units; those of a timespan are kept as they are given.
const (
	FormatSpan     = "span"
	FormatTimespan = "timespan"
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

	HoldsData bool `json:"holds_data,omitempty"` // dropping one loses data
	Copies    bool `json:"copies,omitempty"`     // the cloud can copy a thing, with its data, into one of its own
	// the cloud refuses a second one of the same name, so a swap drops first
	UniqueName bool `json:"unique_name,omitempty"`
	DropFirst  bool `json:"drop_first,omitempty"` // two cannot exist side by side for another reason
	Unshown    bool `json:"unshown,omitempty"`    // the cloud shows none of its things: the record answers for them
	Unlisted   bool `json:"unlisted,omitempty"`   // the cloud shows a thing by its id alone, and lists none

	// how long the cloud keeps what identifies a thing taken once it is gone; Always for good
	NameStays time.Duration `json:"name_stays,omitempty"`
	Identify  []string      `json:"identify,omitempty"` // attributes that together identify one thing

	KeyMemory time.Duration `json:"key_memory,omitempty"` // how long an idempotency key is remembered; 0 means never
	// things carry entity tags, and writes may name the one they saw
	Tags   bool   `json:"tags,omitempty"`
	Locate bool   `json:"locate,omitempty"` // the driver can find what a key made
	Price  *Price `json:"price,omitempty"`  // nil when the cloud does not say

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
	Set      bool   `json:"set,omitempty"`      // a list whose order says nothing
	Implied  bool   `json:"implied,omitempty"`  // the cloud fills the default in where it is left out
	AnyCase  bool   `json:"any_case,omitempty"` // a text whose case says nothing
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

	re       *regexp.Regexp // of Pattern, once prepared
	prepared bool
	loose    bool // once prepared
}

// Attribute finds an attribute by its schema name; nil when there is none.
func (t *Type) Attribute(name string) *Attribute {
	if t.byName == nil {
		return linear(t.Attributes, name)
	}
	return t.byName[name]
}

// Canonical is a value of the attribute in the one form in which such values are compared,
// as a cloud may write it otherwise than it was given: an instant (format date-time, RFC
// 3339) in UTC, without zeros behind its seconds; a duration (ISO 8601, or as Go writes
// them) in one choice of units; a set in one order; a text whose case says
// nothing in small letters; and within a record that is given, without what the cloud
// decides and what it fills in by itself. Lists and maps are changed in place.
func (a *Attribute) Canonical(v any) any {
	if !a.Loose() {
		return v
	}
	switch v := v.(type) {
	case string:
		if a.Kind != Text {
			return v
		}
		switch a.Format {
		case "date-time":
			if at, err := time.Parse(time.RFC3339Nano, v); err == nil {
				return at.UTC().Format(time.RFC3339Nano)
			}
		case "duration":
			return canonicalISO(v)
		case "google-duration":
			return canonicalSeconds(v)
		case FormatSpan:
			return canonicalSpan(v)
		}
		if a.AnyCase {
			return strings.ToLower(v)
		}
	case []any:
		if a.Elem != nil && a.Elem.Loose() {
			for i := range v {
				v[i] = a.Elem.Canonical(v[i])
			}
		}
		if a.Set && !value.IsPending(v) {
			slices.SortFunc(v, func(x, y any) int { return bytes.Compare(value.Encode(x), value.Encode(y)) })
		}
	case map[string]any:
		for name, x := range v {
			b := a.below(value.Key(name))
			if b == nil || !b.Loose() && !b.Output && !b.Implied {
				continue
			}
			if x = b.Canonical(x); a.Kind == Record && !a.Output && (b.Output || b.Implied && value.Equal(x,
				b.Default)) {
				delete(v, name)
			} else {
				v[name] = x
			}
		}
	}
	return v
}

// Loose reports whether values of the attribute can be written in several ways that say the
// same.
func (a *Attribute) Loose() bool {
	if a.prepared {
		return a.loose
	}
	return a.Format != "" && slices.Contains(looseFormats, a.Format) || a.Set || a.AnyCase || a.Elem != nil &&
		a.Elem.Loose() ||
		slices.ContainsFunc(a.Fields, func(f *Attribute) bool {
			return f.Loose() || !a.Output &&
				(f.Output || f.Implied)
		})
}

// looseFormats are those of texts that can be written in several ways that say the same.
var looseFormats = []string{"date-time", "duration", "google-duration", FormatSpan}

// Shown is a value that a cloud shows, in the attribute's kind where it says the same in
// another one, such as a number as a text, and in its canonical form. Lists and maps are
// changed in place.
func (a *Attribute) Shown(v any) any { return a.Canonical(a.inKind(v)) }

func (a *Attribute) inKind(v any) any {
	switch is := v.(type) {
	case string:
		switch a.Kind {
		case Int:
			if n, err := strconv.ParseInt(is, 10, 64); err == nil {
				return n
			}
		case Number:
			if n, err := strconv.ParseFloat(is, 64); err == nil && !math.IsNaN(n) && !math.IsInf(n, 0) {
				return n
			}
		case Bool:
			if is == "true" || is == "false" {
				return is == "true"
			}
		}
	case int64:
		switch a.Kind {
		case Number:
			return float64(is)
		case Text:
			return value.Plain(is)
		}
	case float64:
		switch {
		case a.Kind == Int && is == math.Trunc(is) && math.Abs(is) < 1<<53:
			return int64(is)
		case a.Kind == Text:
			return value.Plain(is)
		}
	case bool:
		if a.Kind == Text {
			return value.Plain(is)
		}
	case []any:
		if a.Kind == List && a.Elem != nil {
			for i := range is {
				is[i] = a.Elem.inKind(is[i])
			}
		}
	case map[string]any:
		for name, x := range is {
			if b := a.below(value.Key(name)); b != nil {
				is[name] = b.inKind(x)
			}
		}
	}
	return v
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
	a.prepared = false // what is below may have been prepared before this was complete
	a.loose, a.prepared = a.Loose(), true
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
