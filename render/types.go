package render

import (
	"fmt"
	"sort"
	"strings"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// TypesDocument is the JSON form of what drivers offer.
type TypesDocument struct {
	Format string    `json:"format"`
	Types  []TypeDoc `json:"types"`
}

// TypeDoc is one type of a TypesDocument.
type TypeDoc struct {
	Type       string         `json:"type"`
	Help       string         `json:"help"`
	HoldsData  bool           `json:"holds_data"`
	Copies     bool           `json:"copies"`
	Swap       string         `json:"swap"`
	Attributes []AttributeDoc `json:"attributes"`
	Example    string         `json:"example"`
	Price      *PriceDoc      `json:"price,omitempty"` // a month; nil when the cloud does not say
}

// PriceDoc is what a thing of a type costs a month.
type PriceDoc struct {
	Month float64                       `json:"month"`
	By    map[string]map[string]float64 `json:"by,omitempty"`
	Per   map[string]float64            `json:"per,omitempty"`
}

// String is the price in words.
func (p *PriceDoc) String() string {
	var parts []string
	if p.Month > 0 {
		parts = append(parts, money(p.Month))
	}
	for _, name := range value.Keys(p.By) {
		var all []string
		for _, v := range value.Keys(p.By[name]) {
			all = append(all, fmt.Sprintf("%s %s", v, money(p.By[name][v])))
		}
		parts = append(parts, fmt.Sprintf("by %s %s", name, strings.Join(all, ", ")))
	}
	for _, name := range value.Keys(p.Per) {
		parts = append(parts, fmt.Sprintf("%s for each of %s", money(p.Per[name]), name))
	}
	return strings.Join(parts, "; ")
}

// AttributeDoc is one attribute of a TypeDoc.
type AttributeDoc struct {
	Name     string     `json:"name"`
	Kind     string     `json:"kind"`
	Help     string     `json:"help"`
	Required bool       `json:"required"`
	Output   bool       `json:"output"`
	Fixed    bool       `json:"fixed"`
	Secret   bool       `json:"secret"`
	Security bool       `json:"security"`
	Refers   string     `json:"refers,omitempty"`
	Default  *value.Any `json:"default,omitempty"`
	Limits   string     `json:"limits,omitempty"`
}

// NewTypeDoc puts a type into its JSON form.
func NewTypeDoc(drv string, t *schema.Type) TypeDoc {
	d := TypeDoc{Type: drv + "." + t.Name, Help: t.Help, HoldsData: t.HoldsData, Copies: t.Copies, Swap: t.Order(), Example: Example(drv, t), Attributes: []AttributeDoc{}}
	if p := t.Price; p != nil {
		d.Price = &PriceDoc{p.Month, p.By, p.Per}
	}
	for _, a := range t.Attributes {
		x := AttributeDoc{Name: a.Name, Kind: kindText(a), Help: a.Help, Required: a.Required, Output: a.Output, Fixed: a.Fixed, Secret: a.Secret, Security: a.Security, Refers: a.Refers, Limits: limits(a)}
		if a.HasDefault {
			x.Default = &value.Any{V: a.Default}
		}
		d.Attributes = append(d.Attributes, x)
	}
	return d
}

func kindText(a *schema.Attribute) string {
	switch {
	case a.Elem != nil && a.Kind == schema.List:
		return "list of " + kindText(a.Elem)
	case a.Elem != nil:
		return "map of " + kindText(a.Elem)
	case a.Format == "cidr":
		return "address range"
	case a.Format != "":
		return string(a.Kind) + " (" + a.Format + ")"
	}
	return string(a.Kind)
}

// limits says in words what a value must be.
func limits(a *schema.Attribute) string {
	var out []string
	if len(a.OneOf) > 0 {
		var names []string
		for _, v := range a.OneOf {
			names = append(names, value.Plain(v))
		}
		out = append(out, "one of "+strings.Join(names, ", "))
	}
	switch {
	case a.Min != nil && a.Max != nil:
		out = append(out, fmt.Sprintf("%s to %s", value.Plain(*a.Min), value.Plain(*a.Max)))
	case a.Min != nil:
		out = append(out, "at least "+value.Plain(*a.Min))
	case a.Max != nil:
		out = append(out, "at most "+value.Plain(*a.Max))
	}
	unit := map[schema.Kind]string{schema.Text: "characters", schema.List: "items", schema.MapOf: "keys"}[a.Kind]
	if unit == "" {
		unit = "characters"
	}
	if a.MinLength != nil && (a.Kind != schema.Text || *a.MinLength > 1) {
		out = append(out, fmt.Sprintf("at least %d %s", *a.MinLength, unit))
	}
	if a.MaxLength != nil {
		out = append(out, fmt.Sprintf("at most %d %s", *a.MaxLength, unit))
	}
	if a.Pattern != "" {
		out = append(out, "matches "+a.Pattern)
	}
	return strings.Join(out, "; ")
}

// Types writes a list of types with what each is.
func (o *Out) Types(list []TypeDoc) {
	var rows [][]string
	for _, t := range list {
		rows = append(rows, []string{t.Type, t.Help})
	}
	o.Sheet(rows)
}

// Type writes one type with its attributes and an example.
func (o *Out) Type(t TypeDoc) {
	o.Printf("%s: %s\n\n", o.Bold(t.Type), Clean(t.Help))
	section := func(head string, outputs bool) {
		rows := [][]string{}
		for _, a := range t.Attributes {
			if a.Output != outputs {
				continue
			}
			var notes []string
			if a.Required {
				notes = append(notes, "required")
			}
			if a.Fixed {
				notes = append(notes, "fixed")
			}
			if a.Refers != "" {
				notes = append(notes, "refers to "+a.Refers)
			}
			if a.Secret {
				notes = append(notes, "secret")
			}
			if a.Security {
				notes = append(notes, "security")
			}
			if a.Default != nil {
				notes = append(notes, "default "+value.Plain(a.Default.V))
			}
			rows = append(rows, []string{"  " + a.Name, a.Kind, strings.Join(notes, ", "), a.Help})
		}
		if len(rows) > 0 {
			o.Printf("%s\n", o.Paint(Grey, head))
			o.Sheet(rows)
			o.Printf("\n")
		}
	}
	section("to give", false)
	section("decided by the cloud", true)
	var rows [][]string
	for _, a := range t.Attributes {
		if a.Limits != "" && !a.Output {
			rows = append(rows, []string{"  " + a.Name, a.Limits})
		}
	}
	if rows != nil {
		o.Printf("%s\n", o.Paint(Grey, "limits"))
		o.Sheet(rows)
		o.Printf("\n")
	}
	if t.Price != nil {
		o.Printf("%s\n", Wrap("Costs a month: "+t.Price.String()+".", o.Width-2, "  "))
	}
	switch {
	case t.HoldsData && t.Copies:
		o.Printf("%s\n", Wrap("It holds data: dropping or swapping one asks for consent, unless care(at_drop = \"copy-first\") keeps a copy.", o.Width, ""))
	case t.HoldsData:
		o.Printf("It holds data: dropping or swapping one asks for consent.\n")
	}
	o.Printf("A change to a fixed attribute makes a swap, %s.\n\n%s\n%s", t.Swap, o.Paint(Grey, "example"), t.Example)
}

// Example writes a declaration to copy, with what is required and what has a
// default.
func Example(drv string, t *schema.Type) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s.%s(\"example\",\n", drv, t.Name)
	column := 0
	var list []*schema.Attribute
	for _, a := range t.Inputs() {
		if a.Required || a.HasDefault || a.Refers != "" {
			list = append(list, a)
			column = max(column, len(a.Name))
		}
	}
	sort.SliceStable(list, func(i, j int) bool { return list[i].Required && !list[j].Required })
	for _, a := range list {
		v, comment := exampleValue(a), ""
		if a.Refers != "" {
			comment = "  # the handle of a " + a.Refers
		}
		fmt.Fprintf(&b, "    %s = %s,%s\n", Pad(a.Name, column), v, comment)
	}
	b.WriteString(")\n")
	return b.String()
}

func exampleValue(a *schema.Attribute) string {
	switch {
	case a.HasDefault:
		return starlarkText(a.Default)
	case a.Refers != "":
		return a.Refers
	case len(a.OneOf) > 0:
		return starlarkText(a.OneOf[0])
	case a.Format == "cidr":
		return `"10.20.0.0/16"`
	}
	switch a.Kind {
	case schema.Int, schema.Number:
		if a.Min != nil {
			return value.Plain(*a.Min)
		}
		return "1"
	case schema.Bool:
		return "False"
	case schema.List:
		if a.Elem != nil {
			return "[" + exampleValue(a.Elem) + "]"
		}
		return "[]"
	case schema.MapOf, schema.Record:
		return "{}"
	}
	return `"text"`
}

func starlarkText(v any) string {
	switch v := v.(type) {
	case bool:
		return map[bool]string{true: "True", false: "False"}[v]
	case string:
		return fmt.Sprintf("%q", v)
	}
	return value.Plain(v)
}
