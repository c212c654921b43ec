package render

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/form"
	"kasbah/core/nearest"
	"kasbah/core/problem"
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
	Shown      string         `json:"shown"`                // listed, by id, never
	NameStays  string         `json:"name_stays,omitempty"` // how long it is taken once a thing is gone
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
func NewTypeDoc(drv string, c *schema.Catalog, t *schema.Type) TypeDoc {
	d := TypeDoc{Type: drv + "." + t.Name, Help: t.Help, HoldsData: t.HoldsData, Copies: t.Copies, Swap: t.Order(),
		Example: Example(drv, c, t), Attributes: []AttributeDoc{}}
	switch d.Shown = "listed"; {
	case t.Unshown:
		d.Shown = "never"
	case t.Unlisted:
		d.Shown = "by id"
	}
	switch {
	case t.NameStays == schema.Always:
		d.NameStays = "always"
	case t.NameStays > 0:
		d.NameStays = schema.Span(t.NameStays)
	}
	if p := t.Price; p != nil {
		d.Price = &PriceDoc{p.Month, p.By, p.Per}
	}
	for _, a := range t.Attributes {
		x := AttributeDoc{Name: a.Name, Kind: kindText(a), Help: a.Help, Required: a.Required, Output: a.Output,
			Fixed: a.Fixed, Secret: a.Secret, Security: a.Security, Refers: a.Refers, Limits: a.Limits()}
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
	case a.Format == schema.FormatSpan:
		return "text (duration)"
	case a.Format != "":
		return string(a.Kind) + " (" + a.Format + ")"
	}
	return string(a.Kind)
}

// NewTypes is the document of some catalogues' types, by their drivers: of all, or of those that
// are named by a driver, or by a type with or without it.
func NewTypes(catalogs map[string]*schema.Catalog, named string) (TypesDocument, error) {
	d := TypesDocument{Format: "kasbah.types/1", Types: []TypeDoc{}}
	var names []string
	for _, drv := range value.Keys(catalogs) {
		c := catalogs[drv]
		names = append(names, drv)
		for _, n := range c.Names() {
			full := drv + "." + n
			names = append(names, full)
			if named == "" || named == full || named == n || named == drv {
				d.Types = append(d.Types, NewTypeDoc(drv, c, c.Types[n]))
			}
		}
	}
	if len(d.Types) == 0 && named != "" {
		return d, &problem.UsageError{Message: "no driver has the type " + named, Hint: nearest.Hint(named, names)}
	}
	return d, nil
}

// Types writes some types: each in full, or a list with what each is.
func (o *Out) Types(list []TypeDoc, full bool) {
	if full {
		for i, t := range list {
			if i > 0 {
				o.Printf("\n")
			}
			o.Type(t)
		}
		return
	}
	var rows [][]string
	for _, t := range list {
		rows = append(rows, []string{t.Type, t.Help})
	}
	o.Sheet(rows)
}

// Type writes one type with its attributes and an example.
func (o *Out) Type(t TypeDoc) {
	head := o.Bold(t.Type)
	if t.Help != "" {
		head += ": " + Clean(t.Help)
	}
	o.Printf("%s\n\n", head)
	o.attributes("to give", t, false)
	o.attributes("decided by the cloud", t, true)
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
	o.typeRemarks(t)
	o.Printf("A change to a fixed attribute makes a swap, %s.\n\n%s\n%s", t.Swap, o.Paint(Grey, "example"), t.Example)
}

// attributes writes the attributes of a type that are given, or those that the cloud decides.
func (o *Out) attributes(head string, t TypeDoc, outputs bool) {
	rows := [][]string{}
	for _, a := range t.Attributes {
		if a.Output != outputs {
			continue
		}
		rows = append(rows, []string{"  " + a.Name, a.Kind, strings.Join(attributeNotes(a), ", "), a.Help})
	}
	if len(rows) > 0 {
		o.Printf("%s\n", o.Paint(Grey, head))
		o.Sheet(rows)
		o.Printf("\n")
	}
}

// attributeNotes says in words what is special about an attribute.
func attributeNotes(a AttributeDoc) []string {
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
	return notes
}

// typeRemarks writes what is to be known about a type as a whole.
func (o *Out) typeRemarks(t TypeDoc) {
	if t.Price != nil {
		o.Printf("%s\n", Wrap("Costs a month: "+t.Price.String()+".", o.Width-2, "  "))
	}
	switch {
	case t.HoldsData && t.Copies:
		o.Printf("%s\n", Wrap("It holds data: dropping or swapping one asks for consent, unless care(at_drop = "+
			"\"copy-first\") keeps a copy.", o.Width, ""))
	case t.HoldsData:
		o.Printf("It holds data: dropping or swapping one asks for consent.\n")
	}
	switch t.Shown {
	case "never":
		o.Printf("The cloud shows none of them: they are compared with the record alone.\n")
	case "by id":
		o.Printf("The cloud lists none of them: each is read by its id.\n")
	}
	switch t.NameStays {
	case "":
	case "always":
		o.Printf("What identifies one stays taken for good once it is gone.\n")
	default:
		o.Printf("What identifies one stays taken for %s once it is gone.\n", t.NameStays)
	}
}

// Example writes a declaration to copy, with what is required and what has a default. What
// it cannot do without comes before it, with what is required.
func Example(drv string, c *schema.Catalog, t *schema.Type) string {
	x := exampleWriter{driver: drv, catalog: c, made: map[string]bool{}}
	x.needs(t)
	x.declaration(t, "", func(a *schema.Attribute) bool { return a.Required || a.HasDefault })
	return x.b.String()
}

type exampleWriter struct {
	b       strings.Builder
	driver  string
	catalog *schema.Catalog
	made    map[string]bool // types of which one is there already, or is about to
}

// needs writes what a type's required attributes refer to.
func (x *exampleWriter) needs(t *schema.Type) {
	x.made[t.Name] = true
	for _, to := range requiredReferences(t.Attributes) {
		other := x.catalog.Types[to]
		if other == nil || x.made[to] {
			continue
		}
		x.needs(other)
		x.declaration(other, variableOf(to)+" = ", func(a *schema.Attribute) bool { return a.Required })
	}
}

// requiredReferences are the types that attributes refer to which must be given.
func requiredReferences(list []*schema.Attribute) []string {
	var out []string
	for _, a := range list {
		if !a.Required || a.Output {
			continue
		}
		for e := a; e != nil; e = e.Elem {
			if e.Refers != "" {
				out = append(out, e.Refers)
			}
			out = append(out, requiredReferences(e.Fields)...)
		}
	}
	return out
}

// declaration writes one, with those of its attributes that are wanted.
func (x *exampleWriter) declaration(t *schema.Type, head string, wanted func(*schema.Attribute) bool) {
	fmt.Fprintf(&x.b, "%s%s.%s(\"example\"", head, x.driver, variableOf(t.Name))
	column := 0
	var list []*schema.Attribute
	for _, a := range t.Inputs() {
		if wanted(a) {
			list = append(list, a)
			if isName(a.Name) {
				column = max(column, len(a.Name))
			}
		}
	}
	if len(list) == 0 {
		x.b.WriteString(")\n")
		return
	}
	x.b.WriteString(",\n")
	sort.SliceStable(list, func(i, j int) bool { return list[i].Required && !list[j].Required })
	var others []string // whose names are none that the language has
	for _, a := range list {
		v, comment := exampleValue(a), ""
		switch {
		case a.Secret:
			comment = "  # a secret of kasbah.toml: [env.ENV.secrets]"
		case a.Refers != "" && x.catalog.Types[a.Refers] == nil:
			comment = "  # the handle of " + schema.WithArticle(a.Refers)
		}
		if !isName(a.Name) {
			others = append(others, fmt.Sprintf("%q: %s", a.Name, v))
			continue
		}
		fmt.Fprintf(&x.b, "    %s = %s,%s\n", pad(a.Name, column), v, comment)
	}
	if len(others) > 0 {
		fmt.Fprintf(&x.b, "    **{%s},\n", strings.Join(others, ", "))
	}
	x.b.WriteString(")\n")
}

// variableOf is a type's name as the language takes it.
func variableOf(typ string) string { return settled().ReplaceAllString(typ, "_") }

var nameForm = form.Of(`^[A-Za-z_][A-Za-z0-9_]*$`)

// isName reports whether the language takes a text as a name.
func isName(s string) bool { return nameForm().MatchString(s) && !slices.Contains(reserved, s) }

// reserved are the words of Starlark that are no names.
var reserved = strings.Fields("and as assert async await break class continue def del elif else except finally for " +
	"from global if import in is lambda load nonlocal not or pass raise return try while with yield None True False")

func exampleValue(a *schema.Attribute) string {
	switch {
	case a.Secret && a.Kind == schema.Text:
		return "secret(\"example\")"
	case a.HasDefault:
		return declare.Literal(a.Default)
	case a.Refers != "":
		return variableOf(a.Refers)
	case len(a.OneOf) > 0:
		return declare.Literal(a.OneOf[0])
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
	case schema.MapOf:
		return "{}"
	case schema.Record:
		var fields []string
		for _, f := range a.Fields {
			if f.Required && !f.Output {
				fields = append(fields, fmt.Sprintf("%q: %s", f.Name, exampleValue(f)))
			}
		}
		return "{" + strings.Join(fields, ", ") + "}"
	}
	return strconv.Quote(exampleText(a))
}

// exampleText is a text that the attribute takes: the first one that keeps what the schema
// asks for.
func exampleText(a *schema.Attribute) string {
	for _, s := range exampleTexts {
		for a.MinLength != nil && len(s) < *a.MinLength {
			s += s
		}
		if _, faults := a.Check(s, nil); len(faults) == 0 {
			return s
		}
	}
	return exampleTexts[0]
}

// exampleTexts are texts of the forms that are asked for most.
var exampleTexts = []string{
	"text", "10.20.0.0/16", "10.20.0.1", "lantern.example", "https://lantern.example/", "keeper@lantern.example",
	"2031-01-01T00:00:00Z", "2031-01-01", "1h", "PT1H", "1", "0 * * * *", "every 1h", "a/b", "a/*", "/a", "Text-1",
}

var settled = form.Of(`[^A-Za-z0-9_]`)
