package openapi

import (
	"errors"
	"fmt"
	"slices"

	yaml "github.com/pb33f/go-yaml"
	"github.com/pb33f/libopenapi/datamodel/high/base"
	"github.com/pb33f/libopenapi/orderedmap"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// maxAttributes bounds what one document may describe, nested ones counted.
const maxAttributes = 200_000

// reader turns JSON Schemas into attributes.
type reader struct {
	within []string // references that are being followed, so that one that leads to itself ends
	made   int
}

// follow reads what a proxy stands for, and reports false for a schema that
// holds itself. Call the returned function when done with it.
func (r *reader) follow(proxy *base.SchemaProxy) (*base.Schema, bool, func(), error) {
	s := proxy.Schema()
	if s == nil {
		return nil, false, nil, fmt.Errorf("its schema cannot be read: %w", proxy.GetBuildError())
	}
	done := func() {}
	if ref := proxy.GetReference(); ref != "" {
		if slices.Contains(r.within, ref) {
			return s, false, done, nil
		}
		r.within = append(r.within, ref)
		done = func() { r.within = r.within[:len(r.within)-1] }
	}
	return s, true, done, nil
}

// merged is a schema with all that allOf, oneOf and anyOf add to it in one
// place. Of alternatives each property may be given, and those are required
// that each of them requires.
func (r *reader) merged(s *base.Schema) (*base.Schema, error) {
	if len(s.AllOf)+len(s.OneOf)+len(s.AnyOf) == 0 {
		return s, nil
	}
	out := *s
	out.AllOf, out.OneOf, out.AnyOf = nil, nil, nil
	out.Properties = clone(s.Properties)
	out.Required = slices.Clone(s.Required)
	out.Extensions = clone(s.Extensions)
	for _, p := range s.AllOf {
		part, err := r.part(p)
		if err != nil {
			return nil, err
		}
		if part != nil {
			r.take(&out, part, true)
		}
	}
	for _, list := range [][]*base.SchemaProxy{s.OneOf, s.AnyOf} {
		var parts []*base.Schema
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

func (r *reader) part(p *base.SchemaProxy) (*base.Schema, error) {
	s, ok, done, err := r.follow(p)
	if err != nil || !ok {
		return nil, err
	}
	defer done()
	return r.merged(s)
}

func clone[V any](m *orderedmap.Map[string, V]) *orderedmap.Map[string, V] {
	out := orderedmap.New[string, V]()
	if m != nil {
		for k, v := range m.FromOldest() {
			out.Set(k, v)
		}
	}
	return out
}

// take adds a part to a schema. What stands in the schema itself wins.
func (r *reader) take(out, part *base.Schema, all bool) {
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
	if part.Properties != nil {
		for name, p := range part.Properties.FromOldest() {
			if old := get(out.Properties, name); old != nil {
				// stated twice, it is both: an Overlay or a part adds to another
				p = base.CreateSchemaProxy(&base.Schema{AllOf: []*base.SchemaProxy{old, p}})
			}
			out.Properties.Set(name, p)
		}
	}
	if part.Extensions != nil {
		for k, v := range part.Extensions.FromOldest() {
			if get(out.Extensions, k) == nil {
				out.Extensions.Set(k, v)
			}
		}
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
func (r *reader) alternatives(out *base.Schema, parts []*base.Schema) {
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
		same := &base.Schema{}
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
	seen := map[string][]*base.SchemaProxy{}
	var order []string
	required := map[string]int{}
	for _, p := range parts {
		if p.Properties != nil {
			for name, proxy := range p.Properties.FromOldest() {
				if seen[name] == nil {
					order = append(order, name)
				}
				seen[name] = append(seen[name], proxy)
			}
		}
		for _, name := range p.Required {
			required[name]++
		}
		rest := *p
		rest.Properties = nil
		r.take(out, &rest, false)
	}
	for _, name := range order {
		p := seen[name][0]
		if len(seen[name]) > 1 {
			p = base.CreateSchemaProxy(&base.Schema{AnyOf: seen[name]})
		}
		if old := get(out.Properties, name); old != nil {
			p = base.CreateSchemaProxy(&base.Schema{AllOf: []*base.SchemaProxy{old, p}})
		}
		out.Properties.Set(name, p)
		if required[name] == len(parts) {
			out.Required = append(out.Required, name)
		}
	}
}

// values are the ones that a schema allows, where it lists them.
func values(s *base.Schema) []*yaml.Node {
	if len(s.Enum) == 0 && s.Const != nil {
		return []*yaml.Node{s.Const}
	}
	return s.Enum
}

// kindOf is what JSON type a schema's values are of, but null; "" for any.
func kindOf(s *base.Schema) string {
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
	case s.Properties != nil && s.Properties.Len() > 0, s.AdditionalProperties != nil && s.AdditionalProperties.IsA():
		return "object"
	case s.Items != nil:
		return "array"
	case len(values(s)) > 0:
		return map[string]string{"!!str": "string", "!!int": "integer", "!!float": "number", "!!bool": "boolean"}[values(s)[0].Tag]
	}
	return kind
}

// properties reads the properties of an object, in the document's order.
func (r *reader) properties(s *base.Schema) ([]*schema.Attribute, error) {
	var out []*schema.Attribute
	if s.Properties == nil {
		return nil, nil
	}
	for name, proxy := range s.Properties.FromOldest() {
		a, err := r.attribute(name, proxy)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		a.Required = slices.Contains(s.Required, name) && !a.Output
		out = append(out, a)
	}
	return out, nil
}

func (r *reader) attribute(name string, proxy *base.SchemaProxy) (*schema.Attribute, error) {
	if r.made++; r.made > maxAttributes {
		return nil, errors.New("the document describes too much: its schemas nest without end")
	}
	s, ok, done, err := r.follow(proxy)
	if err != nil {
		return nil, err
	}
	defer done()
	if !ok { // it holds one of its own kind
		return &schema.Attribute{Name: name, Help: s.Description, Kind: schema.Any}, nil
	}
	if s, err = r.merged(s); err != nil {
		return nil, err
	}
	a := &schema.Attribute{Name: name, Help: s.Description, Kind: schema.Any, Min: s.Minimum, Max: s.Maximum, Pattern: s.Pattern, Format: s.Format}
	a.Output = s.ReadOnly != nil && *s.ReadOnly
	a.Secret = s.WriteOnly != nil && *s.WriteOnly
	var x propertyExtension
	if !isType(s.Extensions) { // a type that stands in another one says nothing about the property
		if err := extended(s.Extensions, &x); err != nil {
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
func (r *reader) kind(a *schema.Attribute, s *base.Schema) (err error) {
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
		if s.Items != nil && s.Items.IsA() {
			a.Elem, err = r.attribute("", s.Items.A)
		}
	case "object":
		a.MinLength, a.MaxLength = length(s.MinProperties), length(s.MaxProperties)
		if s.Properties != nil && s.Properties.Len() > 0 {
			a.Kind = schema.Record
			a.Fields, err = r.properties(s)
		} else {
			a.Kind = schema.MapOf
			if s.AdditionalProperties != nil && s.AdditionalProperties.IsA() {
				a.Elem, err = r.attribute("", s.AdditionalProperties.A)
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

// isType reports whether a schema is that of a type, not of a property.
func isType(extensions *orderedmap.Map[string, *yaml.Node]) bool {
	n := get(extensions, extension)
	if n == nil {
		return false
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == "type" {
			return true
		}
	}
	return false
}
