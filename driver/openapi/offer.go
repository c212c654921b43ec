package openapi

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	yaml "github.com/pb33f/go-yaml"
	"github.com/pb33f/libopenapi/datamodel/high/base"
	v3 "github.com/pb33f/libopenapi/datamodel/high/v3"
	"github.com/pb33f/libopenapi/orderedmap"

	"kasbah/core/schema"
)

// Examine says what a document offers and what is missing in it. It is an error
// only where the document cannot be read, or where what it says of its types
// contradicts itself. The Overlay drafts what is not described; it is nil when all
// is.
func Examine(body []byte, overlays [][]byte) (offer *schema.Offer, draftOverlay []byte, err error) {
	doc, err := model(body, overlays)
	if err != nil {
		return nil, nil, err
	}
	o := &schema.Offer{Types: []schema.OfferedType{}}
	if doc.Info != nil {
		o.Title, o.Version = doc.Info.Title, doc.Info.Version
	}
	described := map[string]bool{}
	if doc.Components != nil && doc.Components.Schemas != nil && anyDescribed(doc.Components.Schemas) {
		d, err := parse(body, overlays, true)
		if err != nil {
			return nil, nil, err
		}
		for _, name := range d.catalog.Names() {
			t := describedType(d, name)
			o.Types = append(o.Types, t)
			described[shape(t.Path)] = true
		}
	}
	var drafts []draft
	for _, c := range collections(doc) {
		if described[shape(c.path)] {
			continue
		}
		t, draft := c.offer()
		o.Types = append(o.Types, t)
		if draft != nil {
			drafts = append(drafts, *draft)
		}
	}
	if len(drafts) > 0 {
		draftOverlay, err = writeDraft(o.Title, drafts)
	}
	return o, draftOverlay, err
}

func anyDescribed(all *orderedmap.Map[string, *base.SchemaProxy]) bool {
	for _, p := range all.FromOldest() {
		if s := p.Schema(); s != nil && get(s.Extensions, extension) != nil {
			return true
		}
	}
	return false
}

// describedType says what a type that is described can do and cannot.
func describedType(d *document, name string) schema.OfferedType {
	t, info := d.catalog.Types[name], d.types[name]
	out := schema.OfferedType{Name: name, Path: info.list.path, Described: true, Offers: []string{}, Lacks: []string{}}
	made := map[string]string{"post": "made by POST", "put": "made by PUT under a name of the caller's"}[info.create]
	edited := map[string]string{"merge-patch": "edited by a merge patch", "json-patch": "edited by a JSON Patch", "put": "edited by PUT, which replaces it"}[info.edit]
	out.Offers = append(out.Offers, made)
	if edited != "" {
		out.Offers = append(out.Offers, edited)
	} else {
		out.Lacks = append(out.Lacks, "nothing edits it: every change makes another one")
	}
	if info.parent != "" {
		out.Offers = append(out.Offers, "found in each "+info.parent)
	}
	switch {
	case info.Status != nil:
		out.Offers = append(out.Offers, info.Status.At+" tells when it is ready")
	case info.Work != nil:
		out.Offers = append(out.Offers, "its work is followed")
	}
	if t.Tags {
		out.Offers = append(out.Offers, "it carries entity tags")
	} else {
		out.Lacks = append(out.Lacks, "no entity tags: it is read and compared right before it is changed, and an edit at that very moment is not noticed")
	}
	switch {
	case t.KeyMemory > 0:
		out.Offers = append(out.Offers, "keys are remembered for "+t.KeyMemory.String())
	case t.Locate:
		out.Offers = append(out.Offers, "what a key made can be located")
	case len(t.Identify) > 0:
		out.Lacks = append(out.Lacks, "no idempotency keys: where an answer is lost, "+strings.Join(t.Identify, " and ")+" would tell whether it was made")
	default:
		out.Lacks = append(out.Lacks, "no idempotency keys, and nothing identifies one (identify): where an answer is lost, a person must say what was made")
	}
	if !slices.ContainsFunc(t.Attributes, func(a *schema.Attribute) bool { return a.Fixed }) {
		out.Lacks = append(out.Lacks, "no property is fixed: what the API refuses to change shows when it does")
	}
	return out
}

// collection is a path that lists things with a path of each of them.
type collection struct {
	path, itemPath string
	list, item     *v3.PathItem
	component      string
	things         *base.Schema // nil where it is not clear what it holds
}

var plainParam = regexp.MustCompile(`^\{([^{}]+)\}$`)

// collections finds them, in the document's order.
func collections(doc *v3.Document) []collection {
	if doc.Paths == nil || doc.Paths.PathItems == nil {
		return nil
	}
	var out []collection
	for itemPath, item := range doc.Paths.PathItems.FromOldest() {
		at := strings.LastIndex(strings.TrimSuffix(itemPath, "/"), "/")
		if at < 1 || !plainParam.MatchString(strings.Trim(itemPath[at:], "/")) || item.Get == nil {
			continue
		}
		list, path := pathItem(doc, itemPath[:at])
		if list == nil || list.Get == nil || list.Post == nil && item.Put == nil {
			continue // it is only read
		}
		c := collection{path: path, itemPath: itemPath, list: list, item: item}
		if c.component = answers(item.Get); c.component != "" {
			if p := get(doc.Components.Schemas, c.component); p != nil {
				c.things, _ = (&reader{}).part(p) // what cannot be read is told when it is described
			}
		}
		out = append(out, c)
	}
	for path, list := range doc.Paths.PathItems.FromOldest() {
		alone := list.Get != nil && list.Post != nil && !strings.HasSuffix(strings.TrimSuffix(path, "/"), "}")
		if alone && !slices.ContainsFunc(out, func(c collection) bool { return c.path == path }) {
			out = append(out, collection{path: path, list: list})
		}
	}
	return out
}

// answers is the component that an operation's good answer holds, itself or below
// one property; "" where that is not clear.
func answers(op *v3.Operation) string {
	if op.Responses == nil || op.Responses.Codes == nil {
		return ""
	}
	r := get(op.Responses.Codes, "200")
	if r == nil || r.Content == nil {
		return ""
	}
	for _, media := range r.Content.FromOldest() {
		if name := componentOf(media.Schema); name != "" {
			return name
		}
		if media.Schema == nil {
			continue
		}
		if s := media.Schema.Schema(); s != nil && s.Properties != nil {
			for _, p := range s.Properties.FromOldest() {
				if name := componentOf(p); name != "" {
					return name
				}
			}
		}
	}
	return ""
}

func componentOf(p *base.SchemaProxy) string {
	if p == nil {
		return ""
	}
	name, ok := strings.CutPrefix(p.GetReference(), "#/components/schemas/")
	if !ok {
		return ""
	}
	return name
}

// offer says what a collection lacks to be a type, and drafts it.
func (c collection) offer() (schema.OfferedType, *draft) {
	t := schema.OfferedType{Name: nameOf(c.path), Component: c.component, Path: c.path, Offers: []string{}}
	if c.item == nil {
		t.Lacks = []string{"there is no path of one of its things below it: " + extension + " item must name one"}
		return t, nil
	}
	if c.things == nil {
		t.Lacks = []string{"its answers are no component of the document: nothing says which properties it has"}
		return t, nil
	}
	t.Lacks = []string{fmt.Sprintf("component %s has no %s: -draft writes an Overlay with a first guess", c.component, extension)}
	d := &draft{component: c.component, x: []pair{{"type", t.Name}, {"path", c.path}}}
	if id := c.id(); id != "id" {
		d.x = append(d.x, pair{"id", id})
		if id == "" {
			t.Lacks = append(t.Lacks, "it is not clear which property identifies it")
		}
	}
	if get(c.things.Properties, "name") != nil {
		d.x = append(d.x, pair{"identify", []string{"name"}})
	}
	if p := c.pages(); p != nil {
		d.x = append(d.x, pair{"pages", p})
	}
	var properties []pair
	for _, param := range paramPattern.FindAllStringSubmatch(c.path, -1) {
		properties = append(properties, pair{param[1], []pair{{"refers", "TYPE"}}})
		t.Lacks = append(t.Lacks, fmt.Sprintf("{%s} in its path needs %s refers: the type that holds it", param[1], extension))
	}
	if properties != nil {
		d.x = append(d.x, pair{"properties", properties})
	}
	return t, d
}

// nameOf guesses a type's name by the last word of its path, as one of them.
func nameOf(path string) string {
	parts := strings.Split(strings.Trim(path, "/"), "/")
	name := strings.ToLower(strings.NewReplacer("_", "-", ".", "-").Replace(parts[len(parts)-1]))
	switch {
	case strings.HasSuffix(name, "ies"):
		return name[:len(name)-3] + "y"
	case strings.HasSuffix(name, "sses"), strings.HasSuffix(name, "xes"), strings.HasSuffix(name, "ches"):
		return name[:len(name)-2]
	case strings.HasSuffix(name, "s") && !strings.HasSuffix(name, "ss"):
		return name[:len(name)-1]
	}
	return name
}

// id guesses the property that identifies a thing: the one that the path of one
// names, id, or the only one that ends in id.
func (c collection) id() string {
	all := c.things.Properties
	if all == nil {
		return ""
	}
	params := paramPattern.FindAllStringSubmatch(c.itemPath, -1)
	last := params[len(params)-1][1]
	for _, name := range []string{last, "id"} {
		if get(all, name) != nil {
			return name
		}
	}
	found := ""
	for name := range all.FromOldest() {
		if n := strings.ToLower(name); strings.HasSuffix(n, "id") || n == "uuid" {
			if found != "" {
				return ""
			}
			found = name
		}
	}
	return found
}

// pages guesses how the list is cut by the names of its parameters and of what
// its answer holds.
func (c collection) pages() []pair {
	asks := map[string]string{}
	for _, p := range c.list.Get.Parameters {
		if p.In == "query" {
			asks[strings.ToLower(p.Name)] = p.Name
		}
	}
	first := func(names ...string) string {
		for _, n := range names {
			if asks[n] != "" {
				return asks[n]
			}
		}
		return ""
	}
	var out []pair
	switch {
	case first("offset", "skip", "start") != "":
		out = append(out, pair{"offset", first("offset", "skip", "start")})
	case first("page", "page_number") != "":
		out = append(out, pair{"page", first("page", "page_number")})
	case first("cursor", "page_token", "pagetoken", "marker", "after", "from", "continuation") != "":
		out = append(out, pair{"cursor", "next"}, pair{"ask", first("cursor", "page_token", "pagetoken", "marker", "after", "from", "continuation")})
	default:
		return nil
	}
	if limit := first("limit", "count", "page_size", "pagesize", "per_page", "size"); limit != "" {
		out = append(out, pair{"limit", limit}, pair{"size", 100})
	}
	return out
}

type pair struct {
	key string
	is  any
}

// draft is what an Overlay may say of a component.
type draft struct {
	component string
	x         []pair
}

// writeDraft writes an Overlay (OpenAPI Overlay 1.0).
func writeDraft(title string, drafts []draft) ([]byte, error) {
	node := func(v any) (*yaml.Node, error) {
		n := &yaml.Node{}
		return n, n.Encode(v)
	}
	var mapping func(pairs []pair) (*yaml.Node, error)
	mapping = func(pairs []pair) (*yaml.Node, error) {
		m := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
		for _, p := range pairs {
			k, err := node(p.key)
			if err != nil {
				return nil, err
			}
			var v *yaml.Node
			if sub, ok := p.is.([]pair); ok {
				v, err = mapping(sub)
			} else {
				v, err = node(p.is)
			}
			if err != nil {
				return nil, err
			}
			m.Content = append(m.Content, k, v)
		}
		return m, nil
	}
	actions := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
	for _, d := range drafts {
		m, err := mapping([]pair{{"target", "$.components.schemas." + d.component}, {"update", []pair{{extension, d.x}}}})
		if err != nil {
			return nil, err
		}
		actions.Content = append(actions.Content, m)
	}
	doc, err := mapping([]pair{{"overlay", "1.0.0"}, {"info", []pair{{"title", "types of " + cmp.Or(title, "an API")}, {"version", "1"}}}, {"actions", nil}})
	if err != nil {
		return nil, err
	}
	doc.Content[len(doc.Content)-1] = actions
	return yaml.Marshal(doc)
}
