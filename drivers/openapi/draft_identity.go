package openapi

import (
	"slices"
	"strings"

	yaml "github.com/pb33f/go-yaml"
)

// unmarked is a name without what is between its words, so that shipId and ship_id are one.
func unmarked(name string) string { return strings.ToLower(wordMarks.Replace(name)) }

// idIn guesses the property that identifies a thing: the one that the path of one names,
// id, the only one that ends in id, or where none does a name that each must have.
func (g *guessing) idIn(c *candidate, s *jsonSchema) string {
	params := paramPattern().FindAllStringSubmatch(c.itemPath, -1)
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
	if secretName().MatchString(id) {
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
	params := paramPattern().FindAllStringSubmatch(c.itemPath, -1)
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
