package openapi

import (
	"strings"

	"github.com/go-openapi/jsonpointer"
)

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

// nextIn is where an answer says what comes next.
func (g *guessing) nextIn(s *jsonSchema, below string) string {
	for _, name := range s.Properties.names {
		p, err := g.r.part(s.Properties.is[name])
		if err != nil || p == nil {
			continue
		}
		switch {
		case nextName().MatchString(name) && (kindOf(p) == "string" || kindOf(p) == "integer" || kindOf(p) == ""):
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
