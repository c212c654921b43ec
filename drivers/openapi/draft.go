package openapi

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/form"

	yaml "github.com/pb33f/go-yaml"
)

// candidate is a collection of a document that could be a type, with what is guessed of it
// from paths, names and descriptions.
type candidate struct {
	collection
	name    string
	x       *yaml.Node
	doubts  []string          // why it is not certain
	unclear map[string]string // doubts that a look at the API may settle, by what they are about: items, id
	lacks   []string          // what the API has no way for
	remarks []string          // what the API has shown, where it was asked
	shows   *proxy            // what the API shows of one
	things  *jsonSchema
}

func (c *candidate) doubt(format string, args ...any) {
	c.doubts = append(c.doubts, fmt.Sprintf(format, args...))
}

// unsure is doubt about what a look at the API may settle.
func (c *candidate) unsure(about, format string, args ...any) {
	c.doubt(format, args...)
	if c.unclear == nil {
		c.unclear = map[string]string{}
	}
	c.unclear[about] = c.doubts[len(c.doubts)-1]
}

// guessing reads a document's collections and guesses what is to be said of each. Those
// without doubts load as they are guessed: each was tried.
type guessing struct {
	doc      *api
	settings func(string) (string, bool) // of the driver, where one is asked
	r        *reader
	all      []*candidate
	named    map[string]bool
	byName   map[string]*candidate
	byItem   map[string]*candidate // by the shape of one thing's path
	always   map[string]bool       // query parameters that every request has
	top      *yaml.Node            // what is said for all; nil for nothing
	document *document             // of those that were tried
}

func newGuessing(doc *api, described map[string]bool, settings func(string) (string, bool)) *guessing {
	g := &guessing{doc: doc, settings: settings, r: newReader(doc.tree), named: map[string]bool{},
		byName: map[string]*candidate{}, byItem: map[string]*candidate{}}
	g.r.most = 50 // whether it can be read is what counts here
	for _, c := range collections(doc) {
		if !described[shape(c.path)] {
			g.all = append(g.all, &candidate{collection: c})
		}
	}
	return g
}

func (g *guessing) run() error {
	g.names()
	g.top = g.constants()
	for _, c := range g.all {
		g.guess(c)
	}
	return g.try()
}

func (c *collection) operations() []*operation {
	var out []*operation
	for _, item := range []*pathItem{c.list, c.item} {
		if item == nil {
			continue
		}
		for _, op := range []*operation{item.get, item.post, item.put, item.patch, item.delete} {
			if op != nil {
				out = append(out, op)
			}
		}
	}
	return out
}

var (
	settingChars = form.Of(`[^a-z0-9]+`)
	decided      = form.Of(`(?i)^(created|updated|modified|deleted|last|date|time)[-_ ]?(at|on|date|time|by|modified|updated|changed)?$|_at$|^(url|href|uri|self|links?|_links|etag|revision|version_id|html_url)$`)
)

// guess says of one candidate what can be told from the document.
func (g *guessing) guess(c *candidate) {
	if c.item == nil {
		c.doubt("there is no path of one of its things below it: item must name one")
		return
	}
	x := mapped("type", c.name)
	c.x = x
	if c.ids > 1 {
		set(x, "item", scalar(c.itemPath))
	}
	switch {
	case c.item.get == nil && c.list.get == nil:
		set(x, "read", scalar("none"))
		c.doubt("nothing shows one: with read: none it is compared with the record alone")
	case c.item.get == nil:
		set(x, "read", scalar("list"))
	case c.list.get == nil:
		set(x, "lists", scalar("none"))
		c.lacks = append(c.lacks, "nothing lists them: what is recorded is read one by one, and other things are not "+
			"seen")
	}
	in := g.shown(c)
	if c.things == nil {
		c.doubt("its answers are not described: schema must name a component that tells what it holds")
		return
	}
	if in != "" {
		set(x, "in", scalar(in))
	}
	g.identity(c)
	g.ways(c)
	g.parents(c)
	g.pages(c)
	for _, op := range c.operations() {
		for _, p := range op.parameters {
			if p.required && (p.in == "query" || p.in == "header") && !g.always[p.name] && !strings.EqualFold(p.name,
				"authorization") && !(p.in == "header" && (strings.EqualFold(p.name, "accept") ||
				strings.EqualFold(p.name, "content-type"))) {
				c.doubt("a request needs the %s parameter %s", p.in, p.name)
				break
			}
		}
	}
	g.properties(c)
	c.doubts = uniq(c.doubts)
}

func uniq(list []string) []string {
	seen := map[string]bool{}
	return slices.DeleteFunc(list, func(s string) bool {
		was := seen[s]
		seen[s] = true
		return was
	})
}

// shown finds what the API shows of one thing, and where in the answer that stands.
func (g *guessing) shown(c *candidate) (in string) {
	p := schemaIn(c.item.get.answer())
	if c.item.get == nil {
		// that it is not described is said
		p, _ = g.doc.thing(g.r, &typeExtension{Path: c.path, Item: c.itemPath,
			habits: habits{Read: textOf(at(c.x, "read"))}})
	}
	if p == nil {
		return ""
	}
	s, err := g.r.part(p)
	if err != nil || s == nil {
		return ""
	}
	if kindOf(s) == "array" || len(s.Properties.names) == 0 {
		return ""
	}
	// an envelope has one object in it, and nothing that would identify it
	if g.idIn(c, s) == "" {
		last := strings.ReplaceAll(nameOf(c.path), "-", "_")
		for _, name := range s.Properties.names {
			inner, err := g.r.part(s.Properties.is[name])
			if err != nil || inner == nil || len(inner.Properties.names) == 0 {
				continue
			}
			if name == "data" || name == "result" || strings.EqualFold(strings.ReplaceAll(name, "-", "_"), last) ||
				len(s.Properties.names) == 1 {
				c.shows, c.things = s.Properties.is[name], inner
				return name
			}
		}
	}
	c.shows, c.things = p, s
	return ""
}

var wordMarks = strings.NewReplacer("_", "", "-", "", ".", "")

// ways are how things are made, edited and deleted.
func (g *guessing) ways(c *candidate) {
	switch {
	case c.item.patch == nil && c.item.put == nil && c.item.post != nil:
		set(c.x, "edit", mapped("method", "POST"))
	case c.item.patch != nil && c.item.put != nil && c.item.put.body() != nil && c.item.patch.body() == nil:
		set(c.x, "edit", scalar("put"))
	case c.item.patch == nil && c.item.put == nil:
		c.lacks = append(c.lacks, "nothing edits it: every change makes another one")
	}
	if c.item.delete == nil {
		c.doubt("nothing deletes one")
	}
	making := c.list.post
	if making == nil {
		making = c.item.put
	}
	for _, op := range []*operation{making, c.item.patch, c.item.put} {
		for media := range pairsOf(op.body()) {
			if at(op.body(), "application/json") == nil && !strings.HasSuffix(media, "json") && media != formType &&
				media != "*/*" {
				c.doubt("it takes %s, which is neither JSON nor a form", media)
			}
		}
	}
	if making.body() == nil {
		c.doubt("the document does not say what is sent to make one")
	}
}

// parents are what fills the parameters of its paths: the types that hold it, and settings
// for what nothing lists.
func (g *guessing) parents(c *candidate) {
	parents := mapping()
	own := paramPattern().FindAllStringIndex(c.itemPath, -1)
	for i, m := range own[:len(own)-c.ids] {
		param := c.itemPath[m[0]+1 : m[1]-1]
		from := mapped("setting", settingName(param))
		if above := g.byItem[shape(c.itemPath[:m[1]])]; above != nil && above != c {
			from = mapped("refers", above.name)
		} else if i > 0 && at(parents, c.itemPath[own[i-1][0]+1:own[i-1][1]-1]) == nil {
			from = mapped("setting", settingName(param))
		}
		from.Style = yaml.FlowStyle
		set(parents, param, from)
	}
	if len(parents.Content) > 0 {
		set(c.x, "parents", parents)
	}
}

var nextName = form.Of(`(?i)^(next|cursor|marker|continuation)[-_]?(page|cursor|token|link|marker|url|pagetoken)?$|^@?(odata\.)?nextLink$`)

// compareWith says whether the list shows things whole.
func (g *guessing) compareWith(c *candidate, item *proxy) {
	s, err := g.r.part(item)
	switch {
	case err != nil || s == nil:
	case kindOf(s) == "string" || kindOf(s) == "integer":
		set(c.x, "lists", scalar("ids"))
		c.lacks = append(c.lacks, "its list shows what identifies each thing, and no more: each is read")
	default:
		missing := 0
		for _, name := range c.things.Properties.names {
			if s.Properties.is[name] == nil {
				missing++
			}
		}
		if missing > 0 {
			set(c.x, "lists", scalar("summary"))
			c.lacks = append(c.lacks, fmt.Sprintf("its list leaves %d of %d properties out: each thing is read",
				missing, len(c.things.Properties.names)))
		}
	}
}

// properties guesses what the cloud decides, what refers to other things, and what is
// secret, where the document has one schema for all.
func (g *guessing) properties(c *candidate) {
	x := typeExtension{Path: c.path, Item: c.itemPath}
	made := g.doc.made(g.r, &x)
	same := made == nil || g.doc.componentOf(made) != "" && g.doc.componentOf(made) == g.doc.componentOf(c.shows)
	id := cmp.Or(textOf(at(c.x, "id")), "id")
	if c.ids > 1 {
		id = ""
	}
	out := mapping()
	say := func(name string, pairs ...any) {
		m := mapped(pairs...)
		m.Style = yaml.FlowStyle
		set(out, name, m)
	}
	for _, name := range c.things.Properties.names {
		s, err := g.r.part(c.things.Properties.is[name])
		if err != nil || s == nil {
			continue
		}
		ours := s.ReadOnly == nil || !*s.ReadOnly
		switch {
		case name == id:
			if same && ours && c.list.post != nil && !slices.Contains(c.things.Required, name) &&
				idEnd().MatchString(name) {
				say(name, "output", true)
			}
		case secretName().MatchString(name) && kindOf(s) == "string" && (s.WriteOnly == nil || !*s.WriteOnly):
			say(name, "secret", true)
		case same && ours && decided().MatchString(name) && !slices.Contains(c.things.Required, name):
			say(name, "output", true)
		case kindOf(s) == "string" || kindOf(s) == "integer":
			if to := g.refersTo(c, name); to != "" && at(at(c.x, "parents"), name) == nil {
				say(name, "refers", to)
			}
		}
	}
	if len(out.Content) > 0 {
		set(c.x, "properties", out)
	}
}

// idEnd is how a property is called that the cloud gives out to tell things apart.
var idEnd = form.Of(`(?i)(id|uuid|guid)$`)

var idSuffix = form.Of(`(?i)^(.+?)[-_]?(id|uuid)$`)

// refersTo is the type that a property's name says it is the id of; "" for none.
func (g *guessing) refersTo(c *candidate, name string) string {
	m := idSuffix().FindStringSubmatch(name)
	if m == nil {
		return ""
	}
	word := strings.ReplaceAll(strings.ToLower(m[1]), "_", "-")
	if other := g.byName[word]; other != nil && other != c && other.item != nil {
		return other.name
	}
	return ""
}

// try reads every candidate without doubts as its driver would, and doubts those that
// cannot be read.
func (g *guessing) try() error {
	if g.top != nil {
		merge(ensure(g.doc.root, extension), g.top)
	}
	d, err := newDocument(g.doc, g.settings)
	if err != nil {
		return err
	}
	g.document = d
	byName := map[string]*candidate{}
	for _, c := range g.all {
		if len(c.doubts) > 0 {
			continue
		}
		if _, err := d.add(g.r, anchor{path: c.path}, c.x, true); err != nil {
			c.doubt("%v", err)
			continue
		}
		byName[c.name] = c
	}
	for again := true; again; { // who is in one that is doubted is doubted
		again = false
		for _, name := range d.catalog.Names() {
			c := byName[name]
			if c == nil {
				continue
			}
			if err := d.linked(name); err != nil {
				c.doubt("%s", strings.ReplaceAll(err.Error(), "\n", "; "))
				delete(d.catalog.Types, name)
				delete(d.types, name)
				delete(byName, name)
				again = true
			}
		}
		if again {
			for _, name := range d.catalog.Names() {
				d.types[name].above = nil
			}
		}
	}
	return nil
}
