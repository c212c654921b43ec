package openapi

import (
	"slices"
	"strings"

	"kasbah/core/form"
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
	o, described, err := describedIn(doc, body, overlays)
	if err != nil {
		return nil, nil, err
	}
	g := newGuessing(doc, described, nil)
	if err := g.run(); err != nil {
		return nil, nil, err
	}
	for _, c := range g.all {
		o.Types = append(o.Types, c.offered())
	}
	if len(g.all) > 0 {
		draftOverlay, err = overlay(o.Title, g.all, g.top)
	}
	return o, draftOverlay, err
}

// describedIn are the types that a document describes, and the shapes of their paths.
func describedIn(doc *api, body []byte, overlays [][]byte) (*schema.Offer, map[string]bool, error) {
	o, described := &schema.Offer{Types: []schema.OfferedType{}, Title: doc.title, Version: doc.version},
		map[string]bool{}
	if !anyDescribed(doc) {
		return o, described, nil
	}
	d, err := parse(body, overlays, true, nil)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range d.catalog.Names() {
		o.Types = append(o.Types, describedType(d, name))
		described[shape(d.types[name].collection)] = true
	}
	return o, described, nil
}

func anyDescribed(doc *api) bool {
	for range doc.extended() {
		return true
	}
	return false
}

// describedType says what a type that is described can do and cannot.
func describedType(d *document, name string) schema.OfferedType {
	t, info := d.catalog.Types[name], d.types[name]
	out := schema.OfferedType{Name: name, Path: info.collection, Described: true, Offers: []string{}, Lacks: []string{}}
	made := map[string]string{"post": "made by POST", "put": "made by PUT under a name of the caller's"}[info.create]
	edited := map[string]string{"merge-patch": "edited by a merge patch", "json-patch": "edited by a JSON Patch",
		"put": "edited by PUT, which replaces it"}[info.edit]
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
		out.Lacks = append(out.Lacks, "no entity tags: it is read and compared right before it is changed, and an "+
			"edit at that very moment is not noticed")
	}
	switch {
	case t.KeyMemory > 0:
		out.Offers = append(out.Offers, "keys are remembered for "+schema.Span(t.KeyMemory))
	case t.Locate:
		out.Offers = append(out.Offers, "what a key made can be located")
	case len(t.Identify) > 0:
		out.Lacks = append(out.Lacks, "no idempotency keys: where an answer is lost, "+strings.Join(t.Identify,
			" and ")+" would tell whether it was made")
	default:
		out.Lacks = append(out.Lacks, "no idempotency keys, and nothing identifies one (identify): where an answer "+
			"is lost, a person must say what was made")
	}
	if !slices.ContainsFunc(t.Attributes, func(a *schema.Attribute) bool { return a.Fixed }) {
		out.Lacks = append(out.Lacks, "no property is fixed: what the API refuses to change shows when it does")
	}
	return out
}

// collection is a path that lists things with a path of each of them.
type collection struct {
	path, itemPath string
	list, item     *pathItem
	ids            int // how many parameters at the end of itemPath identify one
}

// makes reports whether things are made, and there is a way to see or to delete them.
func (c *collection) makes() bool {
	if c.item == nil || c.list == nil || c.list.post == nil && c.item.put == nil {
		return false
	}
	seen := c.item.get != nil && c.list.get != nil
	return seen || c.ids == 1 && c.item.delete != nil
}

// ways counts what can be done with one.
func (c *collection) ways() int {
	n := 0
	for _, op := range []*operation{c.item.get, c.item.patch, c.item.put, c.item.delete} {
		if op != nil {
			n++
		}
	}
	return n
}

var plainParam = form.Of(`^\{([^{}]+)\}$`)

// collections finds them, in the document's order.
func collections(doc *api) []collection {
	var out []collection
	taken, at := map[string]bool{}, map[string]int{}
	for _, itemPath := range doc.paths {
		c := collection{itemPath: itemPath}
		c.item, _ = doc.item(itemPath)
		for base := strings.TrimSuffix(itemPath, "/"); c.list == nil; c.ids++ {
			end := strings.LastIndex(base, "/")
			if end < 1 || !plainParam().MatchString(base[end+1:]) {
				break
			}
			base = base[:end]
			c.list, c.path = doc.item(base)
		}
		if !c.makes() {
			continue // it is only read
		}
		taken[c.path] = true
		if i, twice := at[c.path]; twice { // by which of two paths there is more to be done
			if c.ways() > out[i].ways() {
				out[i] = c
			}
			continue
		}
		at[c.path] = len(out)
		out = append(out, c)
	}
	for _, path := range doc.paths {
		if taken[path] || strings.HasSuffix(strings.TrimSuffix(path, "/"), "}") {
			continue
		}
		if list, _ := doc.item(path); list != nil && list.get != nil && list.post != nil {
			out = append(out, collection{path: path, list: list})
		}
	}
	return out
}

// componentOf is the component that a schema refers to; "" for none.
func (doc *api) componentOf(p *proxy) string {
	if p == nil {
		return ""
	}
	name, ok := strings.CutPrefix(textOf(at(p.node, "$ref")), componentRef)
	if !ok || doc.at(doc.schemas, unescape(name)) == nil {
		return ""
	}
	return unescape(name)
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
