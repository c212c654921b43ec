package openapi

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// probeTime bounds what is asked about one type.
const probeTime = 30 * time.Second

// Probe is Examine that asks the API as well, reading only: each list, and one thing of
// each. What it finds completes the draft and is told as a remark.
func Probe(ctx context.Context, o Options) (*schema.Offer, []byte, error) {
	doc, err := model(o.Document, o.Overlays)
	if err != nil {
		return nil, nil, err
	}
	offer, described, err := describedIn(doc, o.Document, o.Overlays)
	if err != nil {
		return nil, nil, err
	}
	g := newGuessing(doc, described, o.setting)
	if err := g.run(); err != nil {
		return nil, nil, err
	}
	d, err := newDriver(o, g.document)
	if err != nil {
		return nil, nil, err
	}
	defer d.http.CloseIdleConnections()
	if err := d.reached(ctx); err != nil {
		return nil, nil, err
	}
	for _, c := range g.all {
		asked, cancel := context.WithTimeout(ctx, probeTime)
		g.settle(asked, d, c)
		if t := typeIn(g.document, c.name); len(c.doubts) == 0 && t.Type != nil {
			p := &probe{d: d, t: t, c: c}
			p.ask(asked)
		}
		cancel()
		if err := ctx.Err(); err != nil {
			return nil, nil, err
		}
	}
	for _, c := range g.all {
		offer.Types = append(offer.Types, c.offered())
	}
	if len(g.all) == 0 {
		return offer, nil, nil
	}
	out, err := overlay(offer.Title, g.all, g.top)
	return offer, out, err
}

// reached is an error where nothing can be asked: without a credential, or where nobody
// answers. What is answered says nothing.
func (d *Driver) reached(ctx context.Context) error {
	base, err := d.base(ctx)
	if err != nil {
		return err
	}
	res, err := d.authorized(ctx, http.MethodGet, base+"/", nil, nil, false)
	if err == nil {
		err = res.Body.Close()
	}
	return err
}

// settle looks whether the API itself shows what is not clear of a candidate. One of which
// nothing else is doubtful then is a type as others are.
func (g *guessing) settle(ctx context.Context, d *Driver, c *candidate) {
	if len(c.unclear) == 0 || len(c.unclear) < len(c.doubts) || c.list.get == nil || c.item.get == nil {
		return
	}
	values, ok := g.path(ctx, d, c)
	if !ok {
		return
	}
	list := paramPattern().ReplaceAllStringFunc(c.path, func(m string) string { return url.PathEscape(values[m]) })
	r, err := d.get(ctx, list)
	if err != nil {
		return
	}
	v, err := value.Parse(r.body)
	if err != nil {
		return
	}
	how := &pagesExtension{Items: textOf(at(at(c.x, "pages"), "items"))}
	items, in := arrayIn(v)
	if how.Items == "" && c.unclear["items"] != "" {
		if items == nil {
			return
		}
		if in != "" {
			set(ensure(c.x, "pages"), "items", scalar(in))
		}
		how.Items = in
		c.remarks = append(c.remarks, "its list shows where the things are")
	}
	things, err := itemsOf(v, &listing{how: how})
	if err != nil || len(things) == 0 {
		return
	}
	if c.unclear["id"] != "" {
		id := g.tried(ctx, d, c, values, things[0].whole)
		if id == "" {
			return
		}
		set(c.x, "id", scalar(id))
		c.remarks = append(c.remarks, fmt.Sprintf("one was read by its %s", id))
	}
	c.doubts, c.unclear = nil, nil
	if _, err := g.document.add(g.r, anchor{path: c.path}, c.x, true); err != nil {
		c.doubt("%v", err)
	} else if err := g.document.linked(c.name); err != nil {
		c.doubt("%s", strings.ReplaceAll(err.Error(), "\n", "; "))
		delete(g.document.catalog.Types, c.name)
		delete(g.document.types, c.name)
	}
}

// path are values for the parameters of a collection's path: what settings say, and the
// first thing of a type that holds it.
func (g *guessing) path(ctx context.Context, d *Driver, c *candidate) (map[string]string, bool) {
	values := map[string]string{}
	for _, m := range paramPattern().FindAllStringSubmatch(c.path, -1) {
		from := at(at(c.x, "parents"), m[1])
		above, v := textOf(at(from, "refers")), ""
		if name := textOf(at(from, "setting")); name != "" {
			v, _ = d.o.setting(name)
		}
		if t := typeIn(g.document, above); t.Type != nil {
			for l, err := range d.List(ctx, above) {
				if err == nil {
					v = text(l.Attributes[t.ID])
				}
				break
			}
		}
		if v == "" {
			return nil, false
		}
		values[m[0]] = v
	}
	return values, true
}

// mostTried is how many properties are tried as what identifies a thing.
const mostTried = 8

// tried is the property by whose value the API reads a thing that it lists; "" for none.
func (g *guessing) tried(ctx context.Context, d *Driver, c *candidate, values map[string]string,
	listed value.Map) string {
	end := strings.LastIndexByte(c.itemPath, '{')
	names := slices.DeleteFunc(value.Keys(listed), func(name string) bool {
		return text(listed[name]) == "" ||
			secretName().MatchString(name)
	})
	slices.SortStableFunc(names, func(a, b string) int { return likely(b) - likely(a) })
	for _, name := range names[:min(len(names), mostTried)] {
		base := paramPattern().ReplaceAllStringFunc(c.itemPath[:end],
			func(m string) string { return url.PathEscape(values[m]) })
		r, err := d.get(ctx, base+url.PathEscape(text(listed[name])))
		if err != nil {
			continue
		}
		if is, err := object(r.body, nil); err == nil && text(is[name]) == text(listed[name]) {
			return name
		}
	}
	return ""
}

// likely is how likely a property identifies things, by its name.
func likely(name string) int {
	switch name = strings.ToLower(name); {
	case name == "id", name == "uuid":
		return 4
	case idEnd().MatchString(name):
		return 3
	case name == "name", name == "key", name == "slug":
		return 2
	}
	return 0
}

// arrayIn is the one array that an answer is or has in it, and where.
func arrayIn(v any) (items []any, in string) {
	switch v := v.(type) {
	case []any:
		return v, ""
	case map[string]any:
		for name, x := range v {
			list, ok := x.([]any)
			if ok && items != nil {
				return nil, ""
			}
			if ok {
				items, in = list, name
			}
		}
	}
	return items, in
}

func typeIn(d *document, name string) described {
	return described{d.catalog.Types[name], d.types[name]}
}

// probe is what is asked about one type.
type probe struct {
	d *Driver
	t described
	c *candidate
}

func (p *probe) found(format string, args ...any) {
	p.c.remarks = append(p.c.remarks, fmt.Sprintf(format, args...))
}

// ask reads the list and one thing of it.
func (p *probe) ask(ctx context.Context) {
	values, err := p.parent(ctx)
	if err != nil {
		p.found("not probed: %v", err)
		return
	}
	if p.t.Unlisted || p.t.Unshown {
		p.found("not probed: nothing lists them")
		return
	}
	place := newPlace(p.t.list.fill(values), nil, p.t.Pages).String()
	r, err := p.d.get(ctx, place)
	if err != nil {
		p.c.doubt("its list cannot be read: %v", err)
		return
	}
	v, err := value.Parse(r.body)
	if err != nil {
		p.c.doubt("%s answers with something else than JSON", r.asked)
		return
	}
	items, err := itemsOf(v, &listing{how: p.t.Pages, id: p.t.ID, ids: true})
	if err != nil {
		p.c.doubt("%v: pages items must name where they are", err)
		return
	}
	if len(items) == 0 {
		p.found("its list is empty: nothing else could be asked")
		return
	}
	p.found("its first page holds %d", len(items))
	if nextLink(r.header) != "" {
		p.found("a Link header leads to the next page")
	}
	first := items[0].whole
	if text(first[p.t.ID]) == "" {
		p.c.doubt("the list shows things without %s: id must name what identifies them", p.t.ID)
		return
	}
	if p.t.Read != "list" {
		p.one(ctx, values, first)
	}
}

// parent are the values of the path of a collection to ask about: those of the first thing
// that holds one.
func (p *probe) parent(ctx context.Context) ([]string, error) {
	if p.t.parent == "" {
		return nil, nil
	}
	for l, err := range p.d.List(ctx, p.t.parent) {
		if err != nil {
			return nil, err
		}
		return within(p.t.above, l.Attributes)
	}
	return nil, fmt.Errorf("there is no %s to look into", p.t.parent)
}

// one reads one thing twice, and compares it with what the list shows of it.
func (p *probe) one(ctx context.Context, values []string, listed value.Map) {
	known := value.Map{}
	for i, name := range p.t.list.params {
		known[name] = values[i]
	}
	for name, v := range listed {
		known[name] = v
	}
	parts, err := within(p.t.item.params[:len(p.t.item.params)-1], known)
	if err != nil {
		p.c.doubt("of the path of one thing %v", err)
		return
	}
	place := p.t.item.fill(append(parts, text(listed[p.t.ID])))
	r, err := p.d.get(ctx, place)
	switch {
	case gone(err):
		p.c.doubt("%s is listed with %s %s and cannot be read by that: %v", schema.WithArticle(p.c.name), p.t.ID,
			text(listed[p.t.ID]), err)
		return
	case err != nil:
		p.found("one cannot be read: %v", err)
		return
	}
	in := p.t.In
	is, err := object(r.body, in)
	if err != nil {
		p.c.doubt("%s: %v", r.asked, err)
		return
	}
	if text(is[p.t.ID]) == "" {
		for _, name := range value.Keys(is) {
			if inner, ok := is[name].(map[string]any); ok && text(inner[p.t.ID]) != "" {
				set(p.c.x, "in", scalar(name))
				p.found("an answer has the thing in %s", name)
				is, in = inner, &name
				break
			}
		}
	}
	var missing []string
	for _, name := range value.Keys(is) {
		if listed[name] == nil && is[name] != nil && name != p.t.tag {
			missing = append(missing, name)
		}
	}
	if len(missing) > 0 {
		set(p.c.x, "lists", scalar("summary"))
		p.found("the list leaves out %s", strings.Join(missing, ", "))
	} else if at(p.c.x, "lists") != nil {
		remove(p.c.x, "lists")
		p.found("the list shows things whole")
	}
	p.tags(r)
	p.again(ctx, place, in, is)
}

func (p *probe) tags(r *reply) {
	switch tag := r.header.Get("ETag"); {
	case strings.HasPrefix(tag, "W/"):
		p.found("its tags are weak (RFC 9110, 8.8.3), and no edit is bound to one")
	case tag != "":
		set(p.c.x, "tags", mapped("x", true).Content[1])
		p.found("it carries entity tags")
	}
}

// again reads the thing once more: what differs moves by itself.
func (p *probe) again(ctx context.Context, place string, in *string, was value.Map) {
	r, err := p.d.get(ctx, place)
	if err != nil {
		return // it was read a moment ago
	}
	is, err := object(r.body, in)
	if err != nil {
		return
	}
	for _, name := range value.Keys(was) {
		a := p.t.Attribute(name)
		if a == nil || value.Equal(was[name], is[name]) {
			continue
		}
		p.found("%s differed between two reads", name)
		if !a.Output {
			properties := ensure(p.c.x, "properties")
			properties.Style = 0
			merge(ensure(properties, name), mapped("output", true))
		}
	}
}
