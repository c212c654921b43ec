package openapi

import (
	"fmt"
	"strings"

	yaml "github.com/pb33f/go-yaml"

	"kasbah/core/value"
)

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

// settingName is what a setting of the driver is called that fills a parameter.
func settingName(param string) string {
	var b strings.Builder
	for i, r := range param {
		if r >= 'A' && r <= 'Z' && i > 0 {
			b.WriteByte('_')
		}
		b.WriteRune(r)
	}
	return strings.Trim(settingChars().ReplaceAllString(strings.ToLower(b.String()), "_"), "_")
}
