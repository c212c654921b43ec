// Package openapi is a driver for any HTTP API that an OpenAPI document
// describes, with the x-kasbah extensions in it or in an Overlay file.
// docs/formats/openapi.md lists the extensions.
package openapi

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	yaml "github.com/pb33f/go-yaml"

	"kasbah/core/form"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// document is what a driver knows of an API.
type document struct {
	documentExtension
	doc      *api
	settings func(string) (string, bool)
	named    []string // settings that it needs
	catalog  *schema.Catalog
	types    map[string]*typeInfo
}

// typeInfo says how a type's things are reached.
type typeInfo struct {
	habits
	collection string   // its path, as the document has it
	list       template // the same, with constants in their places
	item       template // one thing's; its last parameters are what identifies it
	ids        int      // how many of them that are
	tag        string   // the property that is the entity tag in lists, or ""
	byName     bool     // the list can be asked for a name
	copies     string   // what below a thing makes copies of it, or ""
	locate     string   // the list's parameter that takes the key something was made with, or ""
	parent     string   // the type whose things have the collection in them, or ""
	above      []string // the parent's attributes that fill the list's path
	bare       []string // attributes that are in the path and in no body
	create     string   // post or put
	edit       string   // merge-patch, json-patch or put; "" where nothing can be edited
	method     string   // of edits
	editAt     template // where they are sent; without a path at the thing's own
	whole      *wholeExtension
	gone       *goneExtension
	ignored    []string // properties that are no attributes
	action     map[string]map[string]action
	makes      string // the media type in which things are made
	edits      string // and edited
}

// Components reads types that are described outside of any HTTP API: JSON Schemas
// with x-kasbah, by the type's name, as components of an OpenAPI document are.
func Components(version string, types []byte) (*schema.Catalog, error) {
	if !json.Valid(types) {
		return nil, errors.New("its types are not JSON")
	}
	v, err := json.Marshal(version)
	if err != nil {
		return nil, err
	}
	d, err := parse(fmt.Appendf(nil,
		`{"openapi":"3.1.0","info":{"title":"types","version":%s},"paths":{},"components":{"schemas":%s}}`, v, types),
		nil, false, nil)
	if err != nil {
		return nil, err
	}
	return d.catalog, nil
}

// parse reads a document; reached says that it must tell by which paths its
// things are reached. settings gives what the driver's settings say; nil is for nobody who
// asks anything of the API.
func parse(body []byte, overlays [][]byte, reached bool, settings func(string) (string, bool)) (*document, error) {
	doc, err := model(body, overlays)
	if err != nil {
		return nil, err
	}
	d, err := newDocument(doc, settings)
	if err != nil {
		return nil, err
	}
	if doc.schemas == nil && !reached {
		return nil, errors.New("the OpenAPI document has no components")
	}
	r := newReader(doc.tree)
	for at, x := range doc.extended() {
		if _, err := d.add(r, at, x, reached); err != nil {
			return nil, fmt.Errorf("%s: %w", at, err)
		}
	}
	if len(d.types) == 0 {
		return nil, fmt.Errorf("the OpenAPI document has no component and no path with %s", extension)
	}
	if !reached {
		return d, nil
	}
	for _, name := range d.catalog.Names() {
		if err := d.linked(name); err != nil {
			return nil, fmt.Errorf("type %s: %w", name, err)
		}
	}
	return d, nil
}

func newDocument(doc *api, settings func(string) (string, bool)) (*document, error) {
	d := &document{doc: doc, settings: settings, catalog: &schema.Catalog{Types: map[string]*schema.Type{},
		Version: doc.version}, types: map[string]*typeInfo{}}
	if err := extended(at(doc.root, extension), &d.documentExtension); err != nil {
		return nil, err
	}
	d.KeyHeader = cmp.Or(d.KeyHeader, "Idempotency-Key")
	return d, nil
}

// linked is an error where the way to a type's things is not clear or leads in a circle.
func (d *document) linked(name string) error {
	if err := d.parents(name); err != nil {
		return err
	}
	return d.ring(name)
}

// anchor is where the x-kasbah of a type stands: at a component or at a path.
type anchor struct{ component, path string }

func (p anchor) String() string {
	if p.component != "" {
		return "component " + p.component
	}
	return "path " + p.path
}

// extended are the places that have an x-kasbah, in the document's order.
func (doc *api) extended() func(yield func(anchor, *yaml.Node) bool) {
	return func(yield func(anchor, *yaml.Node) bool) {
		for name, n := range pairsOf(doc.schemas) {
			if x := at(n, extension); x != nil && !yield(anchor{component: name}, x) {
				return
			}
		}
		for _, path := range doc.paths {
			if x := at(doc.items[path], extension); x != nil && !yield(anchor{path: path}, x) {
				return
			}
		}
	}
}

// setting is what the driver's settings say. Where nobody asks anything of the API, it
// stands for itself.
func (d *document) setting(name string) (string, error) {
	d.named = append(d.named, name)
	if d.settings == nil {
		return "{" + name + "}", nil
	}
	if v, ok := d.settings(name); ok && v != "" {
		return v, nil
	}
	return "", fmt.Errorf("the driver's settings have no %s, which the document's %s names", name, extension)
}

// add reads a type.
func (d *document) add(r *reader, at anchor, node *yaml.Node, reached bool) (string, error) {
	var x typeExtension
	if err := extended(node, &x); err != nil {
		return "", err
	}
	x.habits = x.habits.over(d.documentExtension.habits)
	if x.Type == "" && !reached {
		x.Type = at.component
	}
	if x.Path == "" {
		x.Path = at.path
	}
	if x.InWhole != nil && x.Path == "" {
		x.Path = x.InWhole.Path
	}
	if x.Type == "" || x.Path == "" && reached {
		return "", fmt.Errorf("%s needs a type and a path", extension)
	}
	if d.types[x.Type] != nil {
		return "", fmt.Errorf("another one is of type %s", x.Type)
	}
	s, err := d.shown(r, at, &x)
	if err != nil {
		return "", err
	}
	t, info, err := d.typeOf(r, at, &x, s, reached)
	if err != nil {
		return "", err
	}
	d.catalog.Types[t.Name], d.types[t.Name] = t, info
	return t.Name, nil
}

// shown is the schema of what the API shows of a thing.
func (d *document) shown(r *reader, at anchor, x *typeExtension) (*jsonSchema, error) {
	var p *proxy
	switch {
	case x.Schema != "":
		if p = d.doc.component(x.Schema); p == nil {
			return nil, fmt.Errorf("%s schema: there is no component %q", extension, x.Schema)
		}
	case at.component != "":
		p = d.doc.component(at.component)
	default:
		var err error
		if p, err = d.doc.thing(r, x); err != nil {
			return nil, err
		}
	}
	s, err := r.part(p)
	if err == nil && s == nil {
		err = errors.New("its schema holds nothing but itself")
	}
	return s, err
}

// thing is the schema of one thing, as the answers of its paths have it: of the one that
// reads it, else of one in the list.
func (doc *api) thing(r *reader, x *typeExtension) (*proxy, error) {
	list, path := doc.item(x.Path)
	item, _ := doc.item(itemPath(x, path))
	if item != nil && item.get != nil {
		p := schemaIn(item.get.answer())
		if x.In != nil {
			p = r.dig(p, *x.In)
		}
		if p != nil {
			return p, nil
		}
	}
	if x.Read == "none" {
		if p := doc.made(r, x); p != nil {
			return p, nil
		}
	}
	if list != nil && list.get != nil {
		p := schemaIn(list.get.answer())
		if x.Pages != nil && x.Pages.Items != "" {
			p = r.dig(p, x.Pages.Items)
		}
		if p = r.items(p); p != nil {
			return p, nil
		}
	}
	return nil, fmt.Errorf("its answers are not described: %s schema names a component that tells what it holds",
		extension)
}

func itemPath(x *typeExtension, list string) string {
	return cmp.Or(x.Item, strings.TrimSuffix(list, "/")+"/{}")
}

// typeOf is a type, with how its things are reached.
func (d *document) typeOf(r *reader, at anchor, x *typeExtension, s *jsonSchema, reached bool) (*schema.Type, *typeInfo,
	error) {
	doc := d.doc
	t, err := x.claims(s.Description)
	if err != nil {
		return nil, nil, err
	}
	r.made = 0
	fields, err := r.properties(s)
	if err != nil {
		return nil, nil, err
	}
	for _, a := range fields {
		if a.Name != x.Tag && !x.Properties[a.Name].Ignored {
			t.Attributes = append(t.Attributes, a)
		}
	}
	if err := d.given(r, at, t, x); err != nil {
		return nil, nil, err
	}
	if err := propertiesOf(doc, t, x); err != nil {
		return nil, nil, err
	}
	info := &typeInfo{habits: x.habits, tag: x.Tag, copies: x.Copies, locate: x.Locate, whole: x.InWhole, gone: x.Gone}
	for _, name := range value.Keys(x.Properties) {
		if x.Properties[name].Ignored {
			info.ignored = append(info.ignored, name)
		}
	}
	if reached {
		if err := info.reach(d, t, x); err != nil {
			return nil, nil, err
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
			return nil, nil, fmt.Errorf("%s identify: it has no property %q", extension, n)
		}
	}
	t.Index()
	return t, info, nil
}

// given reads what may be given, where that is described apart from what is shown.
func (d *document) given(r *reader, at anchor, t *schema.Type, x *typeExtension) error {
	if x.Inputs != "" {
		p := d.doc.component(x.Inputs)
		if p == nil {
			return fmt.Errorf("%s inputs: there is no component %q", extension, x.Inputs)
		}
		if err := inputsOf(r, t, p, true); err != nil {
			return err
		}
	} else if at.path != "" && x.InWhole == nil {
		if p := d.doc.made(r, x); p != nil {
			if err := inputsOf(r, t, p, false); err != nil {
				return err
			}
		}
	}
	edits := x.Edits
	if edits == "" {
		return nil
	}
	p := d.doc.component(edits)
	if p == nil {
		return fmt.Errorf("%s edits: there is no component %q", extension, edits)
	}
	s, err := r.part(p)
	if err != nil || s == nil {
		return err
	}
	for _, a := range t.Attributes { // what an edit cannot send is fixed
		a.Fixed = a.Fixed || !a.Output && s.Properties.is[a.Name] == nil
	}
	return nil
}

// made is the schema of what is sent to make a thing; nil where that is not described.
func (doc *api) made(r *reader, x *typeExtension) *proxy {
	list, path := doc.item(x.Path)
	item, _ := doc.item(itemPath(x, path))
	var op *operation
	switch {
	case x.Create != "put" && list != nil && list.post != nil:
		op = list.post
	case item != nil:
		op = item.put
	}
	p := schemaIn(op.body())
	if x.SentIn != nil {
		p = r.dig(p, *x.SentIn)
	}
	if p != nil {
		if s, err := r.part(p); err != nil || s == nil || kindOf(s) != "object" || len(s.Properties.names) == 0 {
			return nil
		}
	}
	return p
}

// propertiesOf reads what a component says of its properties itself. One that is
// no property is a parameter of its path.
func propertiesOf(doc *api, t *schema.Type, x *typeExtension) error {
	for _, name := range value.Keys(x.Properties) {
		if x.Properties[name].Ignored {
			continue
		}
		a := below(t, name)
		if a == nil && x.Path != "" {
			list, _ := doc.item(x.Path)
			item, _ := doc.item(cmp.Or(x.Item, strings.TrimSuffix(x.Path, "/")+"/{}"))
			var err error
			if a, err = doc.parameter(list, item, name); err != nil {
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
			return fmt.Errorf("%s properties: default-on-absence belongs on the property %s itself, beside its default",
				extension, name)
		}
	}
	return nil
}

// inputsOf reads what may be given from a schema of its own: what only what is shown
// has is decided by the cloud, and what only this one has is never shown again. That is
// secret where it is said to be (hidden), or where its name says so.
func inputsOf(r *reader, t *schema.Type, p *proxy, hidden bool) error {
	s, err := r.part(p)
	if err != nil || s == nil {
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
			a.Secret = a.Secret || hidden || secretName().MatchString(a.Name)
			a.Unshown = a.Unshown || !a.Secret
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

// secretName is what properties are called that nobody should see.
var secretName = form.Of(`(?i)pass(word|phrase|wd)|secret|token|credential|private_?key|api_?key`)

// below finds an attribute, or a field of one by names with dots between them.
func below(t *schema.Type, name string) *schema.Attribute {
	if a := t.Attribute(name); a != nil {
		return a
	}
	first, rest, ok := strings.Cut(name, ".")
	a := t.Attribute(first)
	for ok && a != nil {
		for a.Elem != nil && a.Kind != schema.Record {
			a = a.Elem
		}
		first, rest, ok = strings.Cut(rest, ".")
		i := slices.IndexFunc(a.Fields, func(f *schema.Attribute) bool { return f.Name == first })
		if i < 0 {
			return nil
		}
		a = a.Fields[i]
	}
	return a
}

const (
	mergeType = "application/merge-patch+json" // RFC 7396
	patchType = "application/json-patch+json"  // RFC 6902
	formType  = "application/x-www-form-urlencoded"
)
