// Package openapi is a driver for any HTTP API that an OpenAPI document
// describes, with the x-kasbah extensions in it or in an Overlay file.
// docs/formats/openapi.md lists the extensions.
package openapi

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"mime"
	"slices"
	"strings"

	"github.com/pb33f/libopenapi/datamodel/high/base"
	v3 "github.com/pb33f/libopenapi/datamodel/high/v3"
	"github.com/pb33f/libopenapi/orderedmap"

	"kasbah/core/nearest"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// document is what a driver knows of an API.
type document struct {
	documentExtension
	catalog *schema.Catalog
	types   map[string]*typeInfo
}

// typeInfo says how a type's things are reached.
type typeInfo struct {
	habits
	list   template // the collection's path
	item   template // one thing's; its last parameter is the id
	tag    string   // the property that is the entity tag in lists, or ""
	byName bool     // the list can be asked for a name
	copies string   // what below a thing makes copies of it, or ""
	locate string   // the list's parameter that takes the key something was made with, or ""
	parent string   // the type whose things have the collection in them, or ""
	above  []string // the parent's attributes that fill the list's path
	bare   []string // attributes that stand in the path and in no body
	create string   // post or put
	edit   string   // merge-patch, json-patch or put; "" where nothing can be edited
	makes  string   // the media type in which things are made
	edits  string   // and edited
}

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
	d, err := parse(fmt.Appendf(nil, `{"openapi":"3.1.0","info":{"title":"types","version":%s},"paths":{},"components":{"schemas":%s}}`, v, types), nil, false)
	if err != nil {
		return nil, err
	}
	return d.catalog, nil
}

// parse reads a document; reached says that it must tell by which paths its
// things are reached.
func parse(body []byte, overlays [][]byte, reached bool) (*document, error) {
	doc, err := model(body, overlays)
	if err != nil {
		return nil, err
	}
	d := &document{catalog: &schema.Catalog{Types: map[string]*schema.Type{}}, types: map[string]*typeInfo{}}
	if doc.Info != nil {
		d.catalog.Version = doc.Info.Version
	}
	if err := extended(doc.Extensions, &d.documentExtension); err != nil {
		return nil, err
	}
	d.KeyHeader = cmp.Or(d.KeyHeader, "Idempotency-Key")
	if doc.Components == nil || doc.Components.Schemas == nil {
		return nil, errors.New("the OpenAPI document has no components")
	}
	r := &reader{}
	for name, proxy := range doc.Components.Schemas.FromOldest() {
		s := proxy.Schema()
		if s == nil || get(s.Extensions, extension) == nil {
			continue
		}
		if err := d.add(r, doc, name, proxy, reached); err != nil {
			return nil, fmt.Errorf("component %s: %w", name, err)
		}
	}
	if len(d.types) == 0 {
		return nil, fmt.Errorf("the OpenAPI document has no component with %s", extension)
	}
	if !reached {
		return d, nil
	}
	for _, check := range []func(string) error{d.parents, d.ring} {
		for _, name := range d.catalog.Names() {
			if err := check(name); err != nil {
				return nil, fmt.Errorf("type %s: %w", name, err)
			}
		}
	}
	return d, nil
}

func (d *document) add(r *reader, doc *v3.Document, name string, proxy *base.SchemaProxy, reached bool) error {
	s, err := r.part(proxy)
	if err != nil {
		return err
	}
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
	if d.types[x.Type] != nil {
		return fmt.Errorf("another component is of type %s", x.Type)
	}
	x.habits = x.habits.over(d.documentExtension.habits)
	t, err := x.claims(s.Description)
	if err != nil {
		return err
	}
	fields, err := r.properties(s)
	if err != nil {
		return err
	}
	for _, a := range fields {
		if a.Name != x.Tag {
			t.Attributes = append(t.Attributes, a)
		}
	}
	if x.Inputs != "" {
		if err := inputsOf(r, doc, t, x.Inputs); err != nil {
			return err
		}
	}
	if err := propertiesOf(doc, t, &x); err != nil {
		return err
	}
	info := &typeInfo{habits: x.habits, tag: x.Tag, copies: x.Copies, locate: x.Locate}
	if reached {
		if err := info.reach(doc, t, &x); err != nil {
			return err
		}
	}
	rank := map[string]int{}
	for i, n := range x.Order {
		rank[n] = i + 1
	}
	slices.SortStableFunc(t.Attributes, func(a, b *schema.Attribute) int {
		i, j := rank[a.Name], rank[b.Name]
		if i == 0 || j == 0 {
			return cmp.Compare(j, i) // those that are ranked first
		}
		return cmp.Compare(i, j)
	})
	for _, n := range t.Identify {
		if t.Attribute(n) == nil {
			return fmt.Errorf("%s identify: it has no property %q", extension, n)
		}
	}
	t.Index()
	d.catalog.Types[t.Name], d.types[t.Name] = t, info
	return nil
}

// propertiesOf reads what a component says of its properties itself. One that is
// no property is a parameter of its path.
func propertiesOf(doc *v3.Document, t *schema.Type, x *typeExtension) error {
	for _, name := range value.Keys(x.Properties) {
		a := t.Attribute(name)
		if a == nil && x.Path != "" {
			list, _ := pathItem(doc, x.Path)
			item, _ := pathItem(doc, cmp.Or(x.Item, strings.TrimSuffix(x.Path, "/")+"/{}"))
			var err error
			if a, err = parameter(list, item, name); err != nil {
				return fmt.Errorf("%s properties: %w", extension, err)
			}
			a.Output = true // until its path says that it is one of its own
			t.Attributes = append(t.Attributes, a)
		}
		if a == nil {
			return fmt.Errorf("%s properties: it has no property %q", extension, name)
		}
		x.Properties[name].on(a)
		if x.Properties[name].DefaultOnAbsence {
			return fmt.Errorf("%s properties: default-on-absence must stand on the property %s itself, beside its default", extension, name)
		}
	}
	return nil
}

// inputsOf reads what may be given from a component of its own: what only the
// other one has is decided by the cloud, and what only this one has is never
// shown again.
func inputsOf(r *reader, doc *v3.Document, t *schema.Type, component string) error {
	proxy := get(doc.Components.Schemas, component)
	if proxy == nil {
		return fmt.Errorf("%s inputs: there is no component %q", extension, component)
	}
	s, err := r.part(proxy)
	if err != nil {
		return err
	}
	given, err := r.properties(s)
	if err != nil {
		return err
	}
	shown := map[string]*schema.Attribute{}
	for _, a := range t.Attributes {
		shown[a.Name] = a
		a.Output, a.Required = true, false
	}
	for _, a := range given {
		switch old := shown[a.Name]; {
		case a.Output:
		case old == nil:
			a.Secret = true
			t.Attributes = append(t.Attributes, a)
		default:
			// extensions may stand on either
			a.Fixed, a.Security, a.Secret = a.Fixed || old.Fixed, a.Security || old.Security, a.Secret || old.Secret
			a.Refers, a.Help = cmp.Or(a.Refers, old.Refers), cmp.Or(a.Help, old.Help)
			if !a.HasDefault {
				a.Default, a.HasDefault = old.Default, old.HasDefault
			}
			*old = *a
		}
	}
	return nil
}

// reach finds out how things of a type are listed, made, edited and deleted.
func (info *typeInfo) reach(doc *v3.Document, t *schema.Type, x *typeExtension) error {
	list, path := pathItem(doc, x.Path)
	if list == nil {
		return fmt.Errorf("the OpenAPI document names the path %s and does not describe it", x.Path)
	}
	var err error
	if info.list, err = parseTemplate(path); err != nil {
		return err
	}
	place := cmp.Or(x.Item, strings.TrimSuffix(path, "/")+"/{}")
	item, path := pathItem(doc, place)
	if item == nil && x.Item != "" {
		return fmt.Errorf("the OpenAPI document names the path %s and does not describe it", x.Item)
	}
	if info.item, err = parseTemplate(path); err != nil {
		return err
	}
	if n := len(info.item.params); n == 0 {
		return fmt.Errorf("the path %s of one thing names no parameter", path)
	}
	if list.Get != nil {
		for _, p := range list.Get.Parameters {
			info.byName = info.byName || p.In == "query" && p.Name == "name"
		}
	}
	info.create, info.edit = x.Create, x.Edit
	if err := info.methods(list, item); err != nil {
		return err
	}
	for _, name := range info.parentParams() {
		a := t.Attribute(name)
		switch {
		case a == nil:
			if a, err = parameter(list, item, name); err != nil {
				return err
			}
			t.Attributes = append(t.Attributes, a)
			info.bare = append(info.bare, name)
			if !slices.Contains(info.item.params, name) {
				return fmt.Errorf("nothing tells {%s} of one thing: it is no property, and not in the path %s", name, path)
			}
		case a.Output:
			info.bare = append(info.bare, name)
		}
		a.Required, a.Fixed, a.Output = true, true, false
	}
	if info.edit == "" {
		for _, a := range t.Inputs() {
			a.Fixed = true
		}
	}
	id := t.Attribute(t.ID)
	if id == nil {
		return fmt.Errorf("there is no property %q, which is to identify it: %s id names the one that does", t.ID, extension)
	}
	id.Fixed = !id.Output
	return nil
}

// methods decides how things are made and edited, where the extension does not
// say so, by what the document offers.
func (info *typeInfo) methods(list, item *v3.PathItem) error {
	if info.create == "" {
		info.create = "post"
		if list.Post == nil && item != nil && item.Put != nil {
			info.create = "put"
		}
	}
	if info.create != "post" && info.create != "put" {
		return fmt.Errorf("%s create: %q is none of post, put", extension, info.create)
	}
	if info.edit == "" {
		info.edit = "merge-patch"
		if item != nil {
			info.edit = editBy(item)
		}
	}
	info.makes, info.edits = "application/json", cmp.Or(info.Media, standardMedia[info.edit])
	if making := map[string]*v3.PathItem{"post": list, "put": item}[info.create]; making != nil {
		info.makes = mediaOf(map[string]*v3.Operation{"post": making.Post, "put": making.Put}[info.create], info.makes)
	}
	if item != nil && info.Media == "" {
		info.edits = mediaOf(map[string]*v3.Operation{"merge-patch": item.Patch, "json-patch": item.Patch, "put": item.Put}[info.edit], info.edits)
	}
	switch info.edit {
	case "merge-patch", "json-patch", "put":
	case "none":
		info.edit = ""
	default:
		return fmt.Errorf("%s edit: %q is none of merge-patch, json-patch, put, none", extension, info.edit)
	}
	return nil
}

const (
	mergeType = "application/merge-patch+json" // RFC 7396
	patchType = "application/json-patch+json"  // RFC 6902
)

// standardMedia are the media types of edits where a document does not say.
var standardMedia = map[string]string{"merge-patch": mergeType, "json-patch": patchType, "put": "application/json"}

// mediaOf is the media type in which an operation takes its body: the standard one where it
// is offered or nothing is said, else JSON under another name.
func mediaOf(o *v3.Operation, standard string) string {
	if o == nil || o.RequestBody == nil || o.RequestBody.Content == nil || get(o.RequestBody.Content, standard) != nil {
		return standard
	}
	if get(o.RequestBody.Content, "application/json") != nil {
		return "application/json"
	}
	for name := range o.RequestBody.Content.KeysFromOldest() {
		if media, _, err := mime.ParseMediaType(name); err == nil && strings.HasSuffix(media, "+json") && media != patchType {
			return name
		}
	}
	return standard
}

func editBy(item *v3.PathItem) string {
	if item.Patch != nil {
		if b := item.Patch.RequestBody; b != nil && get(b.Content, mergeType) == nil && get(b.Content, patchType) != nil {
			return "json-patch"
		}
		return "merge-patch"
	}
	if item.Put != nil {
		return "put"
	}
	return "none"
}

// parameter makes an attribute of a path's parameter, which no body holds.
func parameter(list, item *v3.PathItem, name string) (*schema.Attribute, error) {
	var all []*v3.Parameter
	for _, p := range []*v3.PathItem{list, item} {
		if p == nil {
			continue
		}
		all = append(all, p.Parameters...)
		for _, op := range []*v3.Operation{p.Get, p.Post, p.Put, p.Delete} {
			if op != nil {
				all = append(all, op.Parameters...)
			}
		}
	}
	for _, p := range all {
		if p.In != "path" || p.Name != name || p.Schema == nil {
			continue
		}
		a, err := (&reader{}).attribute(name, p.Schema)
		if err != nil {
			return nil, err
		}
		var x propertyExtension
		if err := extended(p.Extensions, &x); err != nil {
			return nil, err
		}
		a.Help, a.Refers = cmp.Or(p.Description, a.Help), cmp.Or(x.Refers, a.Refers)
		return a, nil
	}
	return nil, fmt.Errorf("the path's parameter {%s} is no property and is not described", name)
}

// pathItem finds a path, whatever its parameters are called there; the path is
// given back as the document has it.
func pathItem(doc *v3.Document, path string) (*v3.PathItem, string) {
	if doc.Paths == nil || doc.Paths.PathItems == nil {
		return nil, path
	}
	if item := get(doc.Paths.PathItems, path); item != nil {
		return item, path
	}
	for _, p := range keys(doc.Paths.PathItems) {
		if shape(p) == shape(path) {
			return get(doc.Paths.PathItems, p), p
		}
	}
	return nil, strings.Replace(path, "{}", "{id}", 1)
}

func keys[V any](m *orderedmap.Map[string, V]) []string {
	var out []string
	for k := range m.FromOldest() {
		out = append(out, k)
	}
	return out
}

// shape is a path without the names of its parameters, and of no more than one
// slash at its end.
func shape(path string) string {
	parts := strings.Split(strings.TrimSuffix(path, "/"), "/")
	for i, p := range parts {
		if strings.HasPrefix(p, "{") && strings.HasSuffix(p, "}") {
			parts[i] = "{}"
		}
	}
	return strings.Join(parts, "/")
}

// parents finds the type whose things hold a type's collections, which is what
// lists need to go through.
func (d *document) parents(name string) error {
	info, t := d.types[name], d.catalog.Types[name]
	params := info.list.params
	if len(params) == 0 {
		return nil
	}
	last := params[len(params)-1]
	info.parent = t.Attribute(last).Refers
	above := d.catalog.Types[info.parent]
	if info.parent == "" || above == nil {
		hint := nearest.Hint(info.parent, d.catalog.Names())
		if info.parent == "" {
			return fmt.Errorf("its path has {%s}: %s on the property or parameter must say which type it refers to", last, extension)
		}
		return fmt.Errorf("{%s} refers to %s, which the document does not describe%s", last, info.parent, strings.TrimSuffix("; "+hint, "; "))
	}
	for _, p := range params[:len(params)-1] {
		name := ""
		for _, a := range above.Attributes {
			if a.Name == p || a.Refers != "" && a.Refers == t.Attribute(p).Refers && name != p {
				name = a.Name
			}
		}
		if name == "" {
			return fmt.Errorf("its path has {%s}, and no attribute of %s, which holds it, has that name or refers to the same type", p, schema.A(info.parent))
		}
		info.above = append(info.above, name)
	}
	info.above = append(info.above, above.ID)
	return nil
}

// ring is an error where the way to a type's collections leads through itself.
func (d *document) ring(name string) error {
	at := d.types[name].parent
	for range d.types {
		if at == name {
			return fmt.Errorf("its path leads through %s back to itself", d.types[name].parent)
		}
		if at == "" {
			break
		}
		at = d.types[at].parent
	}
	return nil
}
