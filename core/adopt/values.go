package adopt

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// tree is a value with what it refers to in place of ids.
func (g *gathering) tree(i int, v any, a *schema.Attribute, of *item) any {
	switch v := v.(type) {
	case int64:
		if a != nil && a.Refers != "" {
			return g.reference(i, a.Refers, v, of)
		}
	case string:
		if a != nil && a.Refers != "" {
			return g.reference(i, a.Refers, v, of)
		}
		if to, ok := g.indexed[i].outputs[v]; ok && to.key != of.key {
			return to
		}
		if text, ok := g.withID(i, v); ok && text.key != of.key {
			return text
		}
	case []any:
		out := make([]any, len(v))
		for n := range v {
			var elem *schema.Attribute
			if a != nil {
				elem = a.Elem
			}
			out[n] = g.tree(i, v[n], elem, of)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k := range v {
			out[k] = g.tree(i, v[k], below(a, k), of)
		}
		return out
	}
	return v
}

// shortestID is how long an id is that is looked for within texts.
const shortestID = 5

// withID is a text in which the id of one thing alone stands, as a word. An id without a digit may be
// any word.
func (g *gathering) withID(i int, s string) (textOf, bool) {
	if len(s) < shortestID || len(s) > 1000 || strings.Contains(s, "%") || !strings.ContainsAny(s, "0123456789") {
		return textOf{}, false
	}
	for word := range strings.FieldsFuncSeq(s, isMark) {
		if len(word) < shortestID || !strings.ContainsAny(word, "0123456789") {
			continue
		}
		if to := g.indexed[i].ids[word]; to.key != "" && strings.Count(s, word) == 1 {
			return textOf{strings.Replace(s, word, "%s", 1), to.key, to.output}, true
		}
	}
	return textOf{}, false
}

// isMark reports whether a character stands between ids in a text.
func isMark(c rune) bool {
	return (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '-' && c != '_'
}

// refer visits the ids in a value.
func refer(v any, a *schema.Attribute, visit func(typ, id string)) {
	switch v := v.(type) {
	case string:
		if a != nil && a.Refers != "" && v != "" {
			visit(a.Refers, v)
		}
	case []any:
		for _, x := range v {
			var elem *schema.Attribute
			if a != nil {
				elem = a.Elem
			}
			refer(x, elem, visit)
		}
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(v)) {
			refer(v[k], below(a, k), visit)
		}
	}
}

func below(a *schema.Attribute, key string) *schema.Attribute {
	if a == nil {
		return nil
	}
	for _, f := range a.Fields {
		if f.Name == key {
			return f
		}
	}
	return a.Elem
}

// reference is how a thing is written that another one refers to by its id, or by the value that stands
// for it.
func (g *gathering) reference(i int, typ string, v any, by *item) any {
	x, id := g.indexed[i], value.Plain(v)
	of := ref{typ, id}
	n, there := x.at[of]
	if !there {
		n, there = x.at[ref{typ, x.values[of]}]
	}
	if there {
		return toItem{key: x.keys[n]}
	}
	id = cmp.Or(x.others[of], id)
	f := g.found[i]
	if f.Managed != nil {
		switch m := f.Managed(typ, id); {
		case m.Name != "":
			g.mu.Lock()
			defer g.mu.Unlock()
			if g.loads[m.File] == nil {
				g.loads[m.File] = map[string]bool{}
			}
			g.loads[m.File][m.Name] = true
			return loaded{m.File, m.Name, m.Code}
		case m.Code != "":
			return verbatim{m.Code}
		case m.Where != "":
			by.left = append(by.left, fmt.Sprintf("%s is recorded as %s, which is neither bound to a name of this ward nor published: its id is written", id, m.Where))
		}
	}
	t, there := f.Others[thingKey(typ, id)]
	if !there {
		return v
	}
	match, key := map[string]any{}, typ
	names, _ := identityOf(t.Type)
	for _, name := range names {
		v := t.Attributes[name]
		if s, isText := v.(string); isText {
			if text, some := g.withoutEnv(i, s); some {
				v = ofEnv{text}
			}
		}
		match[name] = v
		key += " " + canonical(v)
	}
	if len(match) == 0 {
		match, key = map[string]any{t.Type.ID: id}, typ+" "+id
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.others[key] == nil {
		g.others[key] = &other{key, t.Type, match}
	}
	return toOther{key}
}

// united is what an attribute is declared as in all environments, from what it is in each.
func (g *gathering) united(it *item, a *schema.Attribute, is []any) any {
	first := slices.IndexFunc(it.at, func(t *Thing) bool { return t != nil })
	same := true
	for i := first + 1; i < len(is) && same; i++ {
		same = it.at[i] == nil || canonical(is[i]) == canonical(is[first])
	}
	if same {
		return is[first]
	}
	if templates := g.templates(it, is); templates != nil {
		return templates
	}
	in := &input{name: variable(it.name) + "_" + variable(a.Name), attr: a, is: map[string]any{}}
	for n := 2; g.inputs[in.name] != nil; n++ {
		in.name = fmt.Sprintf("%s_%s_%d", variable(it.name), variable(a.Name), n)
	}
	for i, v := range is {
		if it.at[i] == nil {
			continue
		}
		if !isPlain(v) {
			it.left = append(it.left, fmt.Sprintf("%s/%s: %s refers to other things in each environment", it.typ.Name, it.name, a.Name))
			return is[first]
		}
		if v == nil {
			v = a.Default
		}
		in.is[g.found[i].Env] = v
	}
	g.inputs[in.name] = in
	return asInput{in.name}
}

// isPlain reports whether a value refers to nothing.
func isPlain(v any) bool {
	plain := true
	leaves(v, func(leaf any) {
		switch leaf.(type) {
		case toItem, toOther, textOf, verbatim, loaded:
			plain = false
		}
	})
	return plain
}

// templates is one text of the environment's name that gives all of some texts; nil where there is none.
func (g *gathering) templates(it *item, is []any) any {
	text := ""
	for i, v := range is {
		if it.at[i] == nil {
			continue
		}
		s, isText := v.(string)
		t, some := g.withoutEnv(i, s)
		if !isText || !some || text != "" && t != text {
			return nil
		}
		text = t
	}
	return ofEnv{text}
}

// leaves visits every value that is not a list or a map.
func leaves(v any, visit func(any)) {
	switch v := v.(type) {
	case []any:
		for _, x := range v {
			leaves(x, visit)
		}
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(v)) {
			leaves(v[k], visit)
		}
	case textOf:
		visit(toItem{key: v.key})
	default:
		visit(v)
	}
}

// canonical is a text that equal values have, and no others.
func canonical(v any) string {
	var b strings.Builder
	write(&b, v, func(leaf any) string {
		switch leaf.(type) {
		case nil, string, bool, int64, float64:
			return string(value.Encode(leaf))
		}
		return fmt.Sprintf("%T %v", leaf, leaf)
	})
	return b.String()
}
