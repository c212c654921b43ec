package adopt

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// natural compares names as people do: 9 comes before 10.
func natural(a, b string) int {
	for x, y := a, b; x != "" && y != ""; x, y = x[1:], y[1:] {
		if isDigit(x[0]) && isDigit(y[0]) {
			p, q := number(x), number(y)
			x, y = x[len(p)-1:], y[len(q)-1:] // but for the last digit
			p, q = strings.TrimLeft(p, "0"), strings.TrimLeft(q, "0")
			if c := cmp.Or(len(p)-len(q), cmp.Compare(p, q)); c != 0 {
				return c
			}
			continue
		}
		if x[0] != y[0] {
			return cmp.Compare(x[0], y[0])
		}
	}
	return cmp.Compare(a, b)
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// number is the digits that a text begins with.
func number(s string) string {
	n := 0
	for n < len(s) && isDigit(s[n]) {
		n++
	}
	return s[:n]
}

func thingKey(typ, id string) string { return typ + " " + id }

// ref is a thing by its type and id, or an item by its type and name.
type ref struct{ typ, name string }

// index gives each thing of an environment a key that it has in the others, too.
func (g *gathering) index(i int) {
	f := &g.found[i]
	x := &indexed{keys: make([]string, len(f.Things)), at: make(map[ref]int, len(f.Things)), ids: make(map[string]toItem, len(f.Things)), outputs: map[string]toItem{},
		values: map[ref]string{}, others: map[ref]string{}}
	for _, t := range f.Things {
		referred(x.values, t)
	}
	for _, t := range f.Others {
		referred(x.others, t)
	}
	g.indexed = append(g.indexed, x)
	slices.SortFunc(f.Things, func(a, b Thing) int {
		return cmp.Or(cmp.Compare(a.Type.Name, b.Type.Name), cmp.Compare(len(a.ID), len(b.ID)), cmp.Compare(a.ID, b.ID))
	})
	names := make([]string, len(f.Things)) // plain ones
	called := make(map[ref]int, len(f.Things))
	identity := map[*schema.Type][]string{}
	for n, t := range f.Things {
		x.at[ref{t.Type.Name, t.ID}] = n
		if name, ok := t.Attributes["name"].(string); ok && name != "" {
			names[n] = g.plain(i, name)
			called[ref{t.Type.Name, names[n]}]++
		}
		if _, there := identity[t.Type]; !there {
			by, _ := identityOf(t.Type)
			if !slices.Contains(by, "name") {
				by = append(slices.Clone(by), "name")
			}
			identity[t.Type] = by
		}
	}
	var keyOf func(n, depth int) string // without the type
	keyOf = func(n, depth int) string {
		t := f.Things[n]
		if k := x.keys[n]; k != "" {
			return k[len(t.Type.Name)+1:]
		}
		key := ""
		for _, name := range identity[t.Type] {
			v := t.Attributes[name]
			s, isText := v.(string)
			if a := t.Type.Attribute(name); isText && a != nil && a.Refers != "" && depth < 8 {
				if of, there := x.at[ref{a.Refers, s}]; there {
					s = keyOf(of, depth+1)
				}
			}
			switch {
			case isText && name == "name" && s == "", v == nil:
				continue
			case isText && name == "name":
				s = names[n]
			case isText:
				s = g.plain(i, s)
			default:
				s = value.Plain(v)
			}
			if key != "" {
				key += "-"
			}
			key += s
		}
		return key
	}
	taken := make(map[ref]int, len(f.Things))
	for n, t := range f.Things {
		k := keyOf(n, 0)
		of := ref{t.Type.Name, k}
		if taken[of]++; taken[of] > 1 || k == "" {
			k = strings.TrimPrefix(k+"-"+strconv.Itoa(taken[of]), "-")
		}
		k = t.Type.Name + " " + k
		x.keys[n] = k
		if names[n] != "" && called[ref{t.Type.Name, names[n]}] == 1 {
			g.short[k] = names[n]
		}
	}
}

// byValue notes by which values texts mean one of the things alone.
func (x *indexed) byValue(things []Thing) {
	twice := map[string]bool{}
	for n, t := range things {
		k := x.keys[n]
		if _, there := x.ids[t.ID]; there {
			x.ids[t.ID] = toItem{}
		} else {
			x.ids[t.ID] = toItem{k, t.Type.ID}
		}
		for _, a := range t.Type.Attributes {
			if !a.Output || a.Name == t.Type.ID || a.Moves || a.Secret {
				continue
			}
			text, isText := t.Attributes[a.Name].(string)
			if !isText || len(text) < 7 || !strings.ContainsAny(text, ".:/") {
				continue
			}
			if _, there := x.outputs[text]; there {
				twice[text] = true
			}
			x.outputs[text] = toItem{k, a.Name}
		}
	}
	for text := range twice {
		delete(x.outputs, text)
	}
}

// referred notes by which value others refer to a thing, where that is not its id.
func referred(values map[ref]string, t Thing) {
	v := t.Attributes[t.Type.ID]
	if text, is := v.(string); v == nil || is && text == t.ID {
		return
	}
	of := ref{t.Type.Name, value.Plain(v)}
	if _, twice := values[of]; twice {
		values[of] = ""
	} else {
		values[of] = t.ID
	}
}

// plain is a name without the estate's pattern around it, else without the environment in it.
func (g *gathering) plain(i int, s string) string {
	before, after, _ := strings.Cut(g.found[i].Names, "{name}")
	if rest, ok := strings.CutPrefix(s, before); ok && before+after != "" {
		if name, ok := strings.CutSuffix(rest, after); ok && name != "" {
			return name
		}
	}
	if text, some := g.withoutEnv(i, s); some {
		text = strings.Trim(strings.ReplaceAll(text, "%s", ""), "-._ ")
		for _, twice := range []string{"--", "..", "-.", ".-"} {
			text = strings.ReplaceAll(text, twice, twice[:1])
		}
		if text != "" {
			return text
		}
	}
	return s
}

// withoutEnv is a text with %s where the environment's name stands as a word of its own.
func (g *gathering) withoutEnv(i int, s string) (string, bool) {
	env := g.found[i].Env
	if len(g.found) < 2 || strings.Contains(s, "%") {
		return s, false
	}
	isWord := func(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' }
	for at := 0; at < len(s); {
		n := strings.Index(s[at:], env)
		if n < 0 {
			break
		}
		n += at
		end := n + len(env)
		if (n == 0 || !isWord(s[n-1])) && (end == len(s) || !isWord(s[end])) {
			return s[:n] + "%s" + s[end:], true
		}
		at = end
	}
	return s, false
}

// addressName is a text as a name in an address.
func addressName(s string) string {
	s = strings.Map(func(c rune) rune {
		if c <= ' ' || c == 0x7f || c == '"' {
			return '-'
		}
		return c
	}, s)
	return cmp.Or(strings.Trim(s, "-"), "one")
}
