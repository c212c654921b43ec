// Package openapi is a driver for any HTTP API that an OpenAPI 3.1 document
// with the x-kasbah extensions describes. docs/formats/openapi.md lists the
// extensions.
package openapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"sort"
	"strings"
	"time"

	yaml "github.com/pb33f/go-yaml"
	"github.com/pb33f/libopenapi"
	"github.com/pb33f/libopenapi/datamodel/high/base"
	"github.com/pb33f/libopenapi/orderedmap"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// document is what a driver knows of an API.
type document struct {
	catalog *schema.Catalog
	types   map[string]typeInfo
	changes string // path of the change feed, or ""
}

// typeInfo says how a type's things are reached.
type typeInfo struct {
	path   string
	tag    string // the property that is the entity tag in lists, or ""
	byName bool   // the list can be asked for a name
	copies string // what below a thing makes copies of it, or ""
}

// typeExtension is x-kasbah on a component.
type typeExtension struct {
	Type       string   `yaml:"type"`
	Path       string   `yaml:"path"`
	ID         string   `yaml:"id"`
	Tag        string   `yaml:"tag"`
	Tags       bool     `yaml:"tags"` // they have some, though no property holds it
	Keys       string   `yaml:"keys"`
	Order      []string `yaml:"order"`
	Identify   []string `yaml:"identify"`
	HoldsData  bool     `yaml:"holds-data"`
	Copies     string   `yaml:"copies"`
	UniqueName bool     `yaml:"unique-name"`
	DropFirst  bool     `yaml:"drop-first"`
	Price      *struct {
		Month float64                       `yaml:"month"`
		By    map[string]map[string]float64 `yaml:"by"`
		Per   map[string]float64            `yaml:"per"`
	} `yaml:"price"`
}

// propertyExtension is x-kasbah on a property.
type propertyExtension struct {
	Fixed            bool   `yaml:"fixed"`
	Refers           string `yaml:"refers"`
	Security         bool   `yaml:"security"`
	DefaultOnAbsence bool   `yaml:"default-on-absence"`
}

type documentExtension struct {
	Changes string `yaml:"changes"`
}

const extension = "x-kasbah"

// Components reads types that are described outside of any HTTP API: JSON Schemas
// with x-kasbah, by the type's name, as components of an OpenAPI document are.
func Components(version string, types []byte) (*schema.Catalog, error) {
	if !json.Valid(types) {
		return nil, errors.New("its types are no JSON")
	}
	v, err := json.Marshal(version)
	if err != nil {
		return nil, err
	}
	d, err := parse(fmt.Appendf(nil, `{"openapi":"3.1.0","info":{"title":"types","version":%s},"paths":{},"components":{"schemas":%s}}`, v, types), false)
	if err != nil {
		return nil, err
	}
	return d.catalog, nil
}

// parse reads a document; reached says that it must tell by which paths its
// things are reached.
func parse(body []byte, reached bool) (*document, error) {
	raw, err := libopenapi.NewDocument(body)
	if err != nil {
		return nil, fmt.Errorf("the OpenAPI document cannot be read: %w", err)
	}
	model, err := raw.BuildV3Model()
	if err != nil {
		return nil, fmt.Errorf("the OpenAPI document cannot be read: %w", err)
	}
	doc := model.Model
	d := &document{catalog: &schema.Catalog{Types: map[string]*schema.Type{}}, types: map[string]typeInfo{}}
	if doc.Info != nil {
		d.catalog.Version = doc.Info.Version
	}
	var de documentExtension
	if err := extended(doc.Extensions, &de); err != nil {
		return nil, err
	}
	d.changes = de.Changes
	if doc.Components == nil || doc.Components.Schemas == nil {
		return nil, errors.New("the OpenAPI document has no components")
	}
	for name, proxy := range doc.Components.Schemas.FromOldest() {
		s := proxy.Schema()
		if s == nil || s.Extensions == nil || s.Extensions.GetOrZero(extension) == nil {
			continue
		}
		if err := d.add(name, s, reached); err != nil {
			return nil, fmt.Errorf("component %s: %w", name, err)
		}
	}
	if len(d.types) == 0 {
		return nil, fmt.Errorf("the OpenAPI document has no component with %s", extension)
	}
	for name, t := range d.types {
		if !reached {
			break
		}
		if doc.Paths == nil || doc.Paths.PathItems == nil || doc.Paths.PathItems.GetOrZero(t.path) == nil {
			return nil, fmt.Errorf("the OpenAPI document names the path %s and does not describe it", t.path)
		}
		if get := doc.Paths.PathItems.GetOrZero(t.path).Get; get != nil {
			for _, p := range get.Parameters {
				t.byName = t.byName || p.In == "query" && p.Name == "name"
			}
			d.types[name] = t
		}
	}
	return d, nil
}

// extended decodes x-kasbah out of some extensions, where it stands there.
func extended(all *orderedmap.Map[string, *yaml.Node], into any) error {
	if all == nil || all.GetOrZero(extension) == nil {
		return nil
	}
	if err := all.GetOrZero(extension).Decode(into); err != nil {
		return fmt.Errorf("%s: %w", extension, err)
	}
	return nil
}

func (d *document) add(name string, s *base.Schema, reached bool) error {
	var x typeExtension
	if err := extended(s.Extensions, &x); err != nil {
		return err
	}
	if x.Type == "" && !reached {
		x.Type = name
	}
	if x.Type == "" || x.Path == "" && reached {
		return fmt.Errorf("%s needs a type and a path", extension)
	}
	t := &schema.Type{
		Name: x.Type, Help: s.Description, ID: x.ID, HoldsData: x.HoldsData, UniqueName: x.UniqueName,
		DropFirst: x.DropFirst, Identify: x.Identify, Tags: x.Tag != "" || x.Tags, Copies: x.Copies != "",
	}
	if t.ID == "" {
		t.ID = "id"
	}
	if x.Keys != "" {
		var err error
		if t.KeyMemory, err = time.ParseDuration(x.Keys); err != nil {
			return fmt.Errorf("%s keys: %w", extension, err)
		}
	}
	if p := x.Price; p != nil {
		t.Price = &schema.Price{Month: p.Month, By: p.By, Per: p.Per}
	}
	fields, err := properties(s)
	if err != nil {
		return err
	}
	for _, a := range fields {
		if a.Name != x.Tag {
			t.Attributes = append(t.Attributes, a)
		}
	}
	rank := map[string]int{}
	for i, n := range x.Order {
		rank[n] = i + 1
	}
	sort.SliceStable(t.Attributes, func(i, j int) bool {
		a, b := rank[t.Attributes[i].Name], rank[t.Attributes[j].Name]
		return a != 0 && (b == 0 || a < b)
	})
	t.Index()
	d.catalog.Types[t.Name] = t
	d.types[t.Name] = typeInfo{path: x.Path, tag: x.Tag, copies: x.Copies}
	return nil
}

// properties reads the properties of an object, in the document's order.
func properties(s *base.Schema) ([]*schema.Attribute, error) {
	required := map[string]bool{}
	for _, r := range s.Required {
		required[r] = true
	}
	var out []*schema.Attribute
	if s.Properties == nil {
		return nil, nil
	}
	for name, proxy := range s.Properties.FromOldest() {
		a, err := attribute(name, proxy)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		a.Required = required[name]
		out = append(out, a)
	}
	return out, nil
}

func attribute(name string, proxy *base.SchemaProxy) (*schema.Attribute, error) {
	s := proxy.Schema()
	if s == nil {
		return nil, fmt.Errorf("its schema cannot be read: %w", proxy.GetBuildError())
	}
	a := &schema.Attribute{Name: name, Help: s.Description, Kind: schema.Any, Min: s.Minimum, Max: s.Maximum, Pattern: s.Pattern, Format: s.Format}
	a.Output = s.ReadOnly != nil && *s.ReadOnly
	a.Secret = s.WriteOnly != nil && *s.WriteOnly
	var x propertyExtension
	if err := extended(s.Extensions, &x); err != nil {
		return nil, err
	}
	a.Fixed, a.Refers, a.Security = x.Fixed, x.Refers, x.Security
	for _, n := range s.Enum {
		v, err := plain(n)
		if err != nil {
			return nil, err
		}
		a.OneOf = append(a.OneOf, v)
	}
	if s.Default != nil && x.DefaultOnAbsence {
		v, err := plain(s.Default)
		if err != nil {
			return nil, err
		}
		a.Default, a.HasDefault = v, true
	}
	var err error
	switch strings.Join(s.Type, " ") {
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
			a.Elem, err = attribute("", s.Items.A)
		}
	case "object":
		a.MinLength, a.MaxLength = length(s.MinProperties), length(s.MaxProperties)
		if s.Properties != nil && s.Properties.Len() > 0 {
			a.Kind = schema.Record
			a.Fields, err = properties(s)
		} else {
			a.Kind = schema.MapOf
			if s.AdditionalProperties != nil && s.AdditionalProperties.IsA() {
				a.Elem, err = attribute("", s.AdditionalProperties.A)
			}
		}
	}
	return a, err
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
