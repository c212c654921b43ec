package openapi

import (
	"fmt"
	"maps"
	"slices"

	yaml "github.com/pb33f/go-yaml"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// Bounds on what one type describes: attributes, nested ones counted, and references within
// each other. What is beyond is a value of any kind. Only schemas that hold each other in
// circles get there.
const (
	maxAttributes = 5000
	maxDeep       = 16
	// manyAttributes is how many a document describes of which each further type has no
	// more than fewAttributes read.
	manyAttributes = 100_000
	fewAttributes  = 300
)

// jsonSchema is a JSON Schema as far as it counts here. Nothing below it is read before it
// is used.
type jsonSchema struct {
	Type                                                                   []string
	Description, Pattern, Format                                           string
	Enum                                                                   []*yaml.Node
	Const, Default                                                         *yaml.Node
	ReadOnly, WriteOnly                                                    *bool
	Minimum, Maximum                                                       *float64
	MinLength, MaxLength, MinItems, MaxItems, MinProperties, MaxProperties *int64
	Items, AdditionalProperties                                            *proxy
	AllOf, OneOf, AnyOf                                                    []*proxy
	Properties                                                             properties
	Required                                                               []string
	Extension                                                              *yaml.Node // x-kasbah
}

// proxy stands for a schema: a node of the document, or one that was put together.
type proxy struct {
	node *yaml.Node
	made *jsonSchema
}

// properties are those of an object, in the document's order.
type properties struct {
	names []string
	is    map[string]*proxy
}

func (p *properties) set(name string, is *proxy) {
	if p.is == nil {
		p.is = map[string]*proxy{}
	}
	if p.is[name] == nil {
		p.names = append(p.names, name)
	}
	p.is[name] = is
}

func (p *properties) clone() properties {
	return properties{slices.Clone(p.names), maps.Clone(p.is)}
}

func proxyOf(n *yaml.Node) *proxy {
	if n == nil || n.Kind != yaml.MappingNode { // such as additionalProperties: true
		return nil
	}
	return &proxy{node: n}
}

func proxiesOf(n *yaml.Node) []*proxy {
	var out []*proxy
	if n != nil && n.Kind == yaml.SequenceNode {
		for _, c := range n.Content {
			if p := proxyOf(c); p != nil {
				out = append(out, p)
			}
		}
	}
	return out
}

// readSchema reads one schema, without what it refers to.
func readSchema(n *yaml.Node) *jsonSchema {
	s := &jsonSchema{}
	for key, v := range pairsOf(n) {
		switch key {
		case "type":
			if s.Type = textsOf(v); v.Kind == yaml.ScalarNode {
				s.Type = []string{v.Value}
			}
		case "description":
			s.Description = textOf(v)
		case "pattern":
			s.Pattern = textOf(v)
		case "format":
			s.Format = textOf(v)
		case "enum":
			if v.Kind == yaml.SequenceNode {
				s.Enum = v.Content
			}
		case "const":
			s.Const = v
		case "default":
			s.Default = v
		case "readOnly":
			s.ReadOnly = boolOf(v)
		case "writeOnly":
			s.WriteOnly = boolOf(v)
		case "minimum":
			s.Minimum = floatOf(v)
		case "maximum":
			s.Maximum = floatOf(v)
		case "minLength":
			s.MinLength = intOf(v)
		case "maxLength":
			s.MaxLength = intOf(v)
		case "minItems":
			s.MinItems = intOf(v)
		case "maxItems":
			s.MaxItems = intOf(v)
		case "minProperties":
			s.MinProperties = intOf(v)
		case "maxProperties":
			s.MaxProperties = intOf(v)
		case "items":
			s.Items = proxyOf(v)
		case "additionalProperties":
			s.AdditionalProperties = proxyOf(v)
		case "allOf":
			s.AllOf = proxiesOf(v)
		case "oneOf":
			s.OneOf = proxiesOf(v)
		case "anyOf":
			s.AnyOf = proxiesOf(v)
		case "required":
			s.Required = textsOf(v)
		case "properties":
			for name, p := range pairsOf(v) {
				if p := proxyOf(p); p != nil {
					s.Properties.set(name, p)
				}
			}
		case extension:
			s.Extension = v
		}
	}
	return s
}

// besides are the keys that mean something beside a $ref (OpenAPI 3.1, and Overlays).
var besides = []string{"description", "default", "readOnly", "writeOnly", extension}

// reader turns JSON Schemas into attributes.
type reader struct {
	doc    *tree
	within []string // references that are being followed, so that one that leads to itself ends
	lowest int      // of those, the first at which something ended since it was last set
	made   int      // attributes of the type that is being read
	total  int      // and of all
	most   int      // of one type

	parts map[string]*jsonSchema       // merged, by reference
	read  map[string]*schema.Attribute // what a reference stands for, where it leads to none of those above it
}

func newReader(doc *tree) *reader {
	return &reader{doc: doc, most: maxAttributes, parts: map[string]*jsonSchema{}, read: map[string]*schema.Attribute{}}
}

// follow reads what a proxy stands for, and reports false for a schema that
// holds itself. Call the returned function when done with it.
func (r *reader) follow(p *proxy) (s *jsonSchema, ref string, ok bool, done func(), err error) {
	done = func() {}
	if p.made != nil {
		return p.made, "", true, done, nil
	}
	ref = textOf(at(p.node, "$ref"))
	if ref == "" {
		return readSchema(p.node), "", true, done, nil
	}
	for _, key := range besides {
		if at(p.node, key) != nil { // both count
			own := readSchema(p.node)
			own.AllOf = append(own.AllOf, &proxy{node: &yaml.Node{Kind: yaml.MappingNode,
				Content: []*yaml.Node{scalar("$ref"), scalar(ref)}}})
			return own, "", true, done, nil
		}
	}
	n, err := r.doc.resolved(p.node)
	if err != nil {
		return nil, ref, false, nil, err
	}
	if i := slices.Index(r.within, ref); i >= 0 {
		r.lowest = min(r.lowest, i)
		return readSchema(n), ref, false, done, nil
	}
	r.within = append(r.within, ref)
	return readSchema(n), ref, true, func() { r.within = r.within[:len(r.within)-1] }, nil
}

// merged is a schema with all that allOf, oneOf and anyOf add to it in one
// place. Of alternatives each property may be given, and those are required
// that each of them requires.
func (r *reader) merged(s *jsonSchema) (*jsonSchema, error) {
	if len(s.AllOf)+len(s.OneOf)+len(s.AnyOf) == 0 {
		return s, nil
	}
	out := *s
	out.AllOf, out.OneOf, out.AnyOf = nil, nil, nil
	out.Properties = s.Properties.clone()
	out.Required = slices.Clone(s.Required)
	for _, p := range s.AllOf {
		part, err := r.part(p)
		if err != nil {
			return nil, err
		}
		if part != nil {
			r.take(&out, part, true)
		}
	}
	for _, list := range [][]*proxy{s.OneOf, s.AnyOf} {
		var parts []*jsonSchema
		for _, p := range list {
			part, err := r.part(p)
			if err != nil {
				return nil, err
			}
			if part != nil && !slices.Equal(part.Type, []string{"null"}) {
				parts = append(parts, part)
			}
		}
		r.alternatives(&out, parts)
	}
	return &out, nil
}

// part is what a proxy stands for, with all parts of it in one place; nil for one that is
// being read.
func (r *reader) part(p *proxy) (*jsonSchema, error) {
	s, ref, ok, done, err := r.follow(p)
	if err != nil || !ok {
		return nil, err
	}
	defer done()
	if known := r.parts[ref]; ref != "" && known != nil {
		return known, nil
	}
	above := r.lowest
	r.lowest = len(r.within)
	out, err := r.merged(s)
	if whole := r.lowest >= len(r.within)-1; ref != "" && err == nil && whole {
		r.parts[ref] = out
	}
	r.lowest = min(r.lowest, above)
	return out, err
}

// dig is the schema of a property that is at a path of names with dots between them; nil
// where there is none.
func (r *reader) dig(p *proxy, path string) *proxy {
	for _, name := range steps(path) {
		if p == nil {
			return nil
		}
		s, err := r.part(p)
		if err != nil || s == nil {
			return nil
		}
		if p = s.Properties.is[name]; p == nil {
			p = s.Items // such as 0
		}
	}
	return p
}

// items is the schema of what a list holds: an array, or an object with one array in it.
func (r *reader) items(p *proxy) *proxy {
	if p == nil {
		return nil
	}
	s, err := r.part(p)
	if err != nil || s == nil {
		return nil
	}
	if s.Items != nil {
		return s.Items
	}
	var found *proxy
	for _, name := range s.Properties.names {
		if inner, err := r.part(s.Properties.is[name]); err == nil && inner != nil && inner.Items != nil {
			if found != nil {
				return nil
			}
			found = inner.Items
		}
	}
	return found
}

// take adds a part to a schema. What is in the schema itself wins.
func (r *reader) take(out, part *jsonSchema, all bool) {
	first := func(into *string, from string) {
		if *into == "" {
			*into = from
		}
	}
	first(&out.Description, part.Description)
	first(&out.Pattern, part.Pattern)
	first(&out.Format, part.Format)
	if len(out.Type) == 0 {
		out.Type = part.Type
	}
	if len(out.Enum) == 0 {
		out.Enum = part.Enum
	}
	or(&out.Const, part.Const)
	or(&out.Default, part.Default)
	or(&out.ReadOnly, part.ReadOnly)
	or(&out.WriteOnly, part.WriteOnly)
	or(&out.Minimum, part.Minimum)
	or(&out.Maximum, part.Maximum)
	or(&out.MinLength, part.MinLength)
	or(&out.MaxLength, part.MaxLength)
	or(&out.MinItems, part.MinItems)
	or(&out.MaxItems, part.MaxItems)
	or(&out.MinProperties, part.MinProperties)
	or(&out.MaxProperties, part.MaxProperties)
	or(&out.Items, part.Items)
	or(&out.AdditionalProperties, part.AdditionalProperties)
	or(&out.Extension, part.Extension)
	for _, name := range part.Properties.names {
		p := part.Properties.is[name]
		if old := out.Properties.is[name]; old != nil {
			// stated twice, it is both: an Overlay or a part adds to another
			p = &proxy{made: &jsonSchema{AllOf: []*proxy{old, p}}}
		}
		out.Properties.set(name, p)
	}
	if all {
		out.Required = append(out.Required, part.Required...)
	}
}

func or[T any](into **T, from *T) {
	if *into == nil {
		*into = from
	}
}

// alternatives adds schemas of which a value fits one.
func (r *reader) alternatives(out *jsonSchema, parts []*jsonSchema) {
	if len(parts) == 0 {
		return
	}
	if len(parts) == 1 {
		r.take(out, parts[0], true)
		return
	}
	kinds := map[string]bool{}
	for _, p := range parts {
		kinds[kindOf(p)] = true
	}
	if len(kinds) > 1 || kindOf(parts[0]) != "object" {
		same := &jsonSchema{}
		if len(kinds) == 1 { // such as a text in one of several forms, or one of several lists of words
			same.Type = parts[0].Type
			for _, p := range parts {
				same.Enum = append(same.Enum, values(p)...)
				if len(values(p)) == 0 {
					same.Enum = nil
					break
				}
			}
		}
		r.take(out, same, false)
		return
	}
	seen := map[string][]*proxy{}
	var order []string
	required := map[string]int{}
	for _, p := range parts {
		for _, name := range p.Properties.names {
			if seen[name] == nil {
				order = append(order, name)
			}
			seen[name] = append(seen[name], p.Properties.is[name])
		}
		for _, name := range p.Required {
			required[name]++
		}
		rest := *p
		rest.Properties = properties{}
		r.take(out, &rest, false)
	}
	for _, name := range order {
		p := seen[name][0]
		if len(seen[name]) > 1 {
			p = &proxy{made: &jsonSchema{AnyOf: seen[name]}}
		}
		if old := out.Properties.is[name]; old != nil {
			p = &proxy{made: &jsonSchema{AllOf: []*proxy{old, p}}}
		}
		out.Properties.set(name, p)
		if required[name] == len(parts) {
			out.Required = append(out.Required, name)
		}
	}
}

// values are the ones that a schema allows, where it lists them.
func values(s *jsonSchema) []*yaml.Node {
	if len(s.Enum) == 0 && s.Const != nil {
		return []*yaml.Node{s.Const}
	}
	return s.Enum
}

// kindOf is what JSON type a schema's values are of, but null; "" for any.
func kindOf(s *jsonSchema) string {
	kind := ""
	for _, t := range s.Type {
		switch {
		case t == "null":
		case kind == "integer" && t == "number", kind == "number" && t == "integer":
			kind = "number"
		case kind != "":
			return ""
		default:
			kind = t
		}
	}
	switch {
	case kind != "":
	case len(s.Properties.names) > 0, s.AdditionalProperties != nil:
		return "object"
	case s.Items != nil:
		return "array"
	case len(values(s)) > 0:
		return map[string]string{"!!str": "string", "!!int": "integer", "!!float": "number",
			"!!bool": "boolean"}[values(s)[0].Tag]
	}
	return kind
}

// properties reads the properties of an object, in the document's order.
func (r *reader) properties(s *jsonSchema) ([]*schema.Attribute, error) {
	var out []*schema.Attribute
	for _, name := range s.Properties.names {
		a, err := r.attribute(name, s.Properties.is[name])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		a.Required = slices.Contains(s.Required, name) && !a.Output
		out = append(out, a)
	}
	return out, nil
}

// attribute reads what a proxy stands for. What a reference leads to is read once, unless
// it leads back to what is above it, where it ends.
func (r *reader) attribute(name string, p *proxy) (*schema.Attribute, error) {
	s, ref, ok, done, err := r.follow(p)
	if err != nil {
		return nil, err
	}
	defer done()
	if known := r.read[ref]; ref != "" && known != nil {
		out := *known
		out.Name = name
		return &out, nil
	}
	r.made, r.total = r.made+1, r.total+1
	// it holds one of its own kind, or there is no end of it
	if !ok || r.made > r.most || r.total > manyAttributes && r.made > fewAttributes || len(r.within) > maxDeep {
		if ok {
			r.lowest = 0 // elsewhere it may have one
		}
		return &schema.Attribute{Name: name, Help: s.Description, Kind: schema.Any}, nil
	}
	above := r.lowest
	r.lowest = len(r.within)
	a, err := r.attributeOf(name, s)
	if whole := r.lowest >= len(r.within)-1; ref != "" && err == nil && whole {
		kept := *a
		r.read[ref] = &kept
	}
	r.lowest = min(r.lowest, above)
	return a, err
}

func (r *reader) attributeOf(name string, s *jsonSchema) (*schema.Attribute, error) {
	s, err := r.merged(s)
	if err != nil {
		return nil, err
	}
	a := &schema.Attribute{Name: name, Help: s.Description, Kind: schema.Any, Min: s.Minimum, Max: s.Maximum,
		Pattern: s.Pattern, Format: s.Format}
	a.Output = s.ReadOnly != nil && *s.ReadOnly
	a.Secret = s.WriteOnly != nil && *s.WriteOnly
	var x propertyExtension
	if !isType(s.Extension) { // a type that is in another one says nothing about the property
		if err := extended(s.Extension, &x); err != nil {
			return nil, err
		}
	}
	x.on(a)
	for _, n := range values(s) {
		v, err := plain(n)
		if err != nil {
			return nil, err
		}
		if v != nil {
			a.OneOf = append(a.OneOf, v)
		}
	}
	if s.Default != nil && x.DefaultOnAbsence {
		v, err := plain(s.Default)
		if err != nil {
			return nil, err
		}
		a.Default, a.HasDefault = v, true
	}
	return a, r.kind(a, s)
}

// kind reads what an attribute's values are.
func (r *reader) kind(a *schema.Attribute, s *jsonSchema) (err error) {
	switch kindOf(s) {
	case "string":
		a.Kind, a.MinLength, a.MaxLength = schema.Text, length(s.MinLength), length(s.MaxLength)
	case "integer":
		a.Kind = schema.Int
	case "number":
		a.Kind = schema.Number
	case "boolean":
		a.Kind = schema.Bool
	case "array":
		a.Kind, a.MinLength, a.MaxLength = schema.List, length(s.MinItems), length(s.MaxItems)
		if s.Items != nil {
			a.Elem, err = r.attribute("", s.Items)
		}
	case "object":
		a.MinLength, a.MaxLength = length(s.MinProperties), length(s.MaxProperties)
		if len(s.Properties.names) > 0 {
			a.Kind = schema.Record
			a.Fields, err = r.properties(s)
		} else {
			a.Kind = schema.MapOf
			if s.AdditionalProperties != nil {
				a.Elem, err = r.attribute("", s.AdditionalProperties)
			}
		}
	}
	return err
}

func plain(n *yaml.Node) (any, error) {
	var v any
	if err := n.Decode(&v); err != nil {
		return nil, err
	}
	return value.Normal(v)
}

func length(n *int64) *int {
	if n == nil {
		return nil
	}
	i := int(*n)
	return &i
}

// isType reports whether an x-kasbah is that of a type, not of a property.
func isType(x *yaml.Node) bool { return at(x, "type") != nil }
