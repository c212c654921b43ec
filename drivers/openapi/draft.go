package openapi

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/go-openapi/jsonpointer"
	yaml "github.com/pb33f/go-yaml"

	"kasbah/core/value"
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

// names gives each candidate a name of its own: the last word of its path, with those
// before it where several end alike.
func (g *guessing) names() {
	words := func(path string) []string {
		var out []string
		for _, p := range strings.Split(strings.Trim(path, "/"), "/") {
			if !strings.HasPrefix(p, "{") {
				out = append(out, nameOf(p))
			}
		}
		return out
	}
	taken := map[string]int{}
	for _, c := range g.all {
		taken[nameOf(c.path)]++
	}
	for _, c := range g.all {
		c.name = nameOf(c.path)
		parts := words(c.path)
		for n := 2; (taken[c.name] > 1 || g.named[c.name]) && n <= len(parts); n++ {
			c.name = strings.Join(parts[len(parts)-n:], "-")
			if !g.named[c.name] && taken[c.name] == 0 {
				break
			}
		}
		for base, n := c.name, 2; g.named[c.name]; n++ {
			c.name = fmt.Sprintf("%s-%d", base, n)
		}
		g.named[c.name], g.byName[c.name] = true, c
		if c.item != nil {
			g.byItem[shape(c.itemPath)] = c
		}
	}
}

// constants are the query parameters that nearly every request needs: a version of the API,
// or a key.
func (g *guessing) constants() *yaml.Node {
	g.always = map[string]bool{}
	needs, asked := map[string]int{}, 0
	value := map[string]string{}
	for _, c := range g.all {
		for _, op := range c.operations() {
			asked++
			for _, p := range op.parameters {
				if p.in == "query" && p.required {
					needs[p.name]++
					if v := constantOf(p); v != "" {
						value[p.name] = v
					}
				}
			}
		}
	}
	query := mapping()
	for _, name := range sorted(needs) {
		if needs[name]*10 < asked*9 {
			continue
		}
		g.always[name] = true
		if v, ok := value[name]; ok {
			set(query, name, scalar(v))
		} else {
			set(query, name, mapped("setting", settingName(name)))
		}
	}
	if len(query.Content) == 0 {
		return nil
	}
	return mapped("query", query)
}

func sorted(m map[string]int) []string { return value.Keys(m) }

// constantOf is the one value that a parameter can have; "" for none.
func constantOf(p parameter) string {
	if p.schema == nil {
		return ""
	}
	if e := at(p.schema.node, "enum"); e != nil && len(e.Content) == 1 {
		return e.Content[0].Value
	}
	return textOf(at(p.schema.node, "default"))
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
	settingChars = regexp.MustCompile(`[^a-z0-9]+`)
	decided      = regexp.MustCompile(`(?i)^(created|updated|modified|deleted|last|date|time)[-_ ]?(at|on|date|time|by|modified|updated|changed)?$|_at$|^(url|href|uri|self|links?|_links|etag|revision|version_id|html_url)$`)
)

// settingName is what a setting of the driver is called that fills a parameter.
func settingName(param string) string {
	var b strings.Builder
	for i, r := range param {
		if r >= 'A' && r <= 'Z' && i > 0 {
			b.WriteByte('_')
		}
		b.WriteRune(r)
	}
	return strings.Trim(settingChars.ReplaceAllString(strings.ToLower(b.String()), "_"), "_")
}

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

// unmarked is a name without what stands between its words, so that shipId and ship_id are one.
func unmarked(name string) string { return strings.ToLower(wordMarks.Replace(name)) }

// idIn guesses the property that identifies a thing: the one that the path of one names,
// id, the only one that ends in id, or where none does a name that each must have.
func (g *guessing) idIn(c *candidate, s *jsonSchema) string {
	params := paramPattern.FindAllStringSubmatch(c.itemPath, -1)
	last := params[len(params)-1][1]
	scalarKind := func(name string) bool {
		p, err := g.r.part(s.Properties.is[name])
		return err == nil && p != nil && (kindOf(p) == "string" || kindOf(p) == "integer" || kindOf(p) == "")
	}
	thing := unmarked(nameOf(c.path))
	wanted := []string{unmarked(last), "id", unmarked(strings.TrimPrefix(unmarked(last), thing)), thing + "id", "uuid",
		"uid", "guid"}
	if strings.HasSuffix(unmarked(last), "name") || unmarked(last) == thing {
		wanted = append(wanted, "name")
	}
	for _, w := range wanted {
		for _, name := range s.Properties.names {
			if w != "" && unmarked(name) == w && scalarKind(name) {
				return name
			}
		}
	}
	found := ""
	for _, name := range s.Properties.names {
		if strings.HasSuffix(unmarked(name), "id") && scalarKind(name) {
			if found != "" {
				return ""
			}
			found = name
		}
	}
	if found == "" && slices.Contains(s.Required, "name") && scalarKind("name") {
		return "name"
	}
	return found
}

func (g *guessing) identity(c *candidate) {
	if c.ids > 1 {
		g.identities(c)
		return
	}
	id := g.idIn(c, c.things)
	if id == "" {
		c.unsure("id", "it is not clear which property identifies it: id must name it")
		return
	}
	if secretName.MatchString(id) {
		c.doubt("%s identifies it, and may be secret", id)
	}
	if id != "id" {
		set(c.x, "id", scalar(id))
	}
	for _, name := range []string{"name", "title", "label"} {
		if name != id && c.things.Properties.is[name] != nil {
			set(c.x, "identify", &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Content: []*yaml.Node{scalar(name)},
				Style: yaml.FlowStyle})
			break
		}
	}
}

// identities are the properties that identify a thing together: those that the parameters of
// its path are called after.
func (g *guessing) identities(c *candidate) {
	params := paramPattern.FindAllStringSubmatch(c.itemPath, -1)
	ids := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq", Style: yaml.FlowStyle}
	for _, m := range params[len(params)-c.ids:] {
		i := slices.IndexFunc(c.things.Properties.names,
			func(name string) bool { return unmarked(name) == unmarked(m[1]) })
		if i < 0 {
			c.doubt("it is not clear which property is {%s} of its path: id must name those of all its parameters, "+
				"in their order", m[1])
			return
		}
		ids.Content = append(ids.Content, scalar(c.things.Properties.names[i]))
	}
	set(c.x, "id", ids)
}

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
	own := paramPattern.FindAllStringIndex(c.itemPath, -1)
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

// pages guesses how the list is cut up, by its parameters and by what its answer holds.
func (g *guessing) pages(c *candidate) {
	if c.list.get == nil {
		return
	}
	asks := map[string]string{}
	for _, p := range c.list.get.parameters {
		if p.in == "query" {
			asks[strings.ToLower(strings.NewReplacer("_", "", "-", "", "$", "", "[", "", "]", "", ".",
				"").Replace(p.name))] = p.name
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
	answer := schemaIn(c.list.get.answer())
	var s *jsonSchema
	if answer != nil {
		s, _ = g.r.part(answer) // what cannot be read says nothing
	}
	pages := mapping()
	if s != nil && kindOf(s) == "object" {
		items := g.itemsIn(c, s)
		if items == "" {
			c.unsure("items", "it is not clear which part of the list's answer holds the things: pages items must "+
				"name it")
			return
		}
		set(pages, "items", scalar(items))
		if inner := g.r.items(g.r.dig(answer, items)); inner != nil {
			g.compareWith(c, inner)
		}
	} else if s != nil && s.Items != nil {
		g.compareWith(c, s.Items)
	}
	cursor := first("cursor", "pagetoken", "nexttoken", "marker", "continuation", "continuationtoken", "startingafter",
		"nextcursor")
	offset, page := first("offset", "skip", "start", "startat"), first("page", "pagenumber", "pageindex")
	next := ""
	if s != nil {
		next = g.nextIn(s, "")
	}
	switch {
	case cursor != "" && next != "":
		set(pages, "cursor", scalar(next))
		set(pages, "ask", scalar(cursor))
	case next != "" && strings.Contains(strings.ToLower(next), "link"), next != "" && cursor == "" &&
		(strings.HasSuffix(strings.ToLower(next), "url") || strings.EqualFold(next, "next")):
		set(pages, "next", scalar(next))
	case offset != "":
		set(pages, "offset", scalar(offset))
	case page != "":
		set(pages, "page", scalar(page))
	case cursor != "":
		c.doubt("its list is asked on by %s, and the answer does not say where the next page is", cursor)
	}
	if limit := first("limit", "count", "pagesize", "perpage", "size", "maxresults", "top"); limit != "" &&
		len(pages.Content) > 0 && (at(pages, "offset") != nil || at(pages, "page") != nil) {
		set(pages, "limit", scalar(limit))
	}
	if len(pages.Content) > 0 {
		set(c.x, "pages", pages)
	}
}

// itemsIn is where in a list's answer the things stand; "" where that is not clear.
func (g *guessing) itemsIn(c *candidate, s *jsonSchema) string {
	var lists []string
	for _, name := range s.Properties.names {
		p, err := g.r.part(s.Properties.is[name])
		if err == nil && p != nil && kindOf(p) == "array" {
			lists = append(lists, name)
		}
	}
	if len(lists) == 1 {
		return lists[0]
	}
	last := unmarked(c.path[strings.LastIndexByte(strings.TrimSuffix(c.path, "/"), '/')+1:])
	for _, name := range lists {
		if n := unmarked(name); n == last || n == "items" || n == "data" || n == "results" || n == "value" {
			return name
		}
	}
	return ""
}

var nextName = regexp.MustCompile(`(?i)^(next|cursor|marker|continuation)[-_]?(page|cursor|token|link|marker|url|pagetoken)?$|^@?(odata\.)?nextLink$`)

// nextIn is where an answer says what comes next.
func (g *guessing) nextIn(s *jsonSchema, below string) string {
	for _, name := range s.Properties.names {
		p, err := g.r.part(s.Properties.is[name])
		if err != nil || p == nil {
			continue
		}
		switch {
		case nextName.MatchString(name) && (kindOf(p) == "string" || kindOf(p) == "integer" || kindOf(p) == ""):
			if below == "" && strings.Contains(name, ".") {
				return "/" + jsonpointer.Escape(name)
			}
			return below + name
		case below == "" && kindOf(p) == "object" && len(p.Properties.names) > 0 && len(p.Properties.names) < 10:
			if found := g.nextIn(p, name+"."); found != "" {
				return found
			}
		}
	}
	return ""
}

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
				idEnd.MatchString(name) {
				say(name, "output", true)
			}
		case secretName.MatchString(name) && kindOf(s) == "string" && (s.WriteOnly == nil || !*s.WriteOnly):
			say(name, "secret", true)
		case same && ours && decided.MatchString(name) && !slices.Contains(c.things.Required, name):
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
var idEnd = regexp.MustCompile(`(?i)(id|uuid|guid)$`)

var idSuffix = regexp.MustCompile(`(?i)^(.+?)[-_]?(id|uuid)$`)

// refersTo is the type that a property's name says it is the id of; "" for none.
func (g *guessing) refersTo(c *candidate, name string) string {
	m := idSuffix.FindStringSubmatch(name)
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
	for again := true; again; { // who stands in one that is doubted is doubted
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
