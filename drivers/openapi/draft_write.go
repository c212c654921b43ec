package openapi

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strings"

	yaml "github.com/pb33f/go-yaml"

	"kasbah/core/schema"
)

// mapped is a mapping of keys and values: texts, numbers, truths, lists of texts, nodes.
func mapped(pairs ...any) *yaml.Node {
	m := mapping()
	for i := 0; i+1 < len(pairs); i += 2 {
		v, ok := pairs[i+1].(*yaml.Node)
		if !ok {
			v = &yaml.Node{}
			_ = v.Encode(pairs[i+1]) // what is there is plain
		}
		set(m, pairs[i].(string), v)
	}
	return m
}

func ensure(n *yaml.Node, key string) *yaml.Node {
	if m := at(n, key); m != nil {
		return m
	}
	m := mapping()
	set(n, key, m)
	return m
}

// overlay is an Overlay (OpenAPI Overlay 1.0) of what is certain, with what is doubtful in
// comments.
func overlay(title string, all []*candidate, top *yaml.Node) ([]byte, error) {
	var certain, doubtful bytes.Buffer
	target := func(c *candidate) string { return "$.paths['" + strings.ReplaceAll(c.path, "'", `\'`) + "']" }
	write := func(b *bytes.Buffer, target string, x *yaml.Node) error {
		action, err := yaml.Marshal([]*yaml.Node{mapped("target", target, "update", mapped(extension, x))})
		b.Write(action)
		return err
	}
	certainNames := map[string]bool{}
	for _, c := range all {
		if len(c.doubts) == 0 {
			certainNames[c.name] = true
		}
	}
	if top != nil && len(certainNames) > 0 {
		if err := write(&certain, "$", top); err != nil {
			return nil, err
		}
	}
	for _, c := range all {
		switch {
		case len(c.doubts) == 0:
			// what refers to a doubtful type is a plain text
			for name, p := range pairsOf(at(c.x, "properties")) {
				if to := textOf(at(p, "refers")); to != "" && !certainNames[to] {
					remove(at(c.x, "properties"), name)
				}
			}
			for _, r := range c.remarks {
				fmt.Fprintf(&certain, "# %s: %s\n", c.name, strings.ReplaceAll(r, "\n", " "))
			}
			if err := write(&certain, target(c), c.x); err != nil {
				return nil, err
			}
		case c.x != nil:
			var b bytes.Buffer
			if err := write(&b, target(c), c.x); err != nil {
				return nil, err
			}
			fmt.Fprintf(&doubtful, "# %s is doubtful:\n", c.name)
			for _, why := range c.doubts {
				fmt.Fprintf(&doubtful, "#   %s\n", strings.ReplaceAll(why, "\n", " "))
			}
			for _, line := range strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n") {
				doubtful.WriteString("# " + line + "\n")
			}
		}
	}
	head, err := yaml.Marshal(mapped("overlay", "1.0.0", "info", mapped("title", "types of "+cmp.Or(title, "an API"),
		"version", "1")))
	if err != nil {
		return nil, err
	}
	out := bytes.NewBuffer(head)
	if certain.Len() > 0 {
		out.WriteString("actions:\n")
		out.Write(certain.Bytes())
	} else {
		out.WriteString("# nothing is certain: complete what follows, and take its marks away\nactions: []\n")
	}
	out.Write(doubtful.Bytes())
	return out.Bytes(), nil
}

// offered says what a candidate offers and lacks, in sentences.
func (c *candidate) offered() schema.OfferedType {
	t := schema.OfferedType{Name: c.name, Path: c.path, Certain: len(c.doubts) == 0, Offers: []string{},
		Lacks: []string{}}
	if c.shows != nil && c.shows.node != nil {
		t.Component = strings.TrimPrefix(textOf(at(c.shows.node, "$ref")), componentRef)
	}
	if c.item != nil {
		var can []string
		for _, o := range []struct {
			op  *operation
			how string
		}{{c.list.post, "POST makes one"}, {c.item.get, "GET reads one"}, {c.item.patch, "PATCH changes one"},
			{c.item.put, "PUT replaces one"}, {c.item.delete, "DELETE deletes one"}} {
			if o.op != nil {
				can = append(can, o.how)
			}
		}
		t.Offers = append(t.Offers, strings.Join(can, ", "))
		var takes []string
		for _, op := range []*operation{c.list.post, c.item.patch, c.item.put} {
			for media := range pairsOf(op.body()) {
				if !slices.Contains(takes, media) {
					takes = append(takes, media)
				}
			}
		}
		if len(takes) > 0 {
			t.Offers = append(t.Offers, "it takes "+strings.Join(takes, ", "))
		}
	}
	t.Offers = append(t.Offers, c.remarks...)
	t.Lacks = append(append(t.Lacks, c.doubts...), c.lacks...)
	return t
}
