package adopt

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// Thing is one that exists and that no ledger records.
type Thing struct {
	Type       *schema.Type
	ID         string
	Attributes value.Map
}

// Found are the things of one environment that are to be declared.
type Found struct {
	Env    string
	Names  string // the estate's pattern of names there, with nothing left but {name}
	Things []Thing
	// Others are things of the same cloud that are not declared here, by `TYPE ID`.
	Others map[string]Thing
	// Declared are resources of the ward, as `TYPE NAME`, whose names are taken.
	Declared map[string]bool
	// Managed says how a thing is written that the estate records: as the value of another ward that
	// is published; "" for no way. It may be nil.
	Managed func(typ, id string) string
}

// The values of attributes that are not literals.
type (
	toItem   struct{ key, output string }     // a handle, or an output of what is declared
	toOther  struct{ key string }             // a thing that is looked up
	textOf   struct{ format, key, id string } // a text with %s where an id of what is declared stands; id is its attribute
	ofEnv    struct{ text string }            // a text with %s where the environment's name stands
	asInput  struct{ name string }            // differs between environments
	verbatim struct{ text string }            // code
)

// item is one resource of the file, in one environment or several.
type item struct {
	key   string // tells it from the others
	typ   *schema.Type
	name  string            // in its address
	ids   map[string]string // by environment
	attrs map[string]any    // what it is declared with, by attribute
	needs []string          // keys of other items

	texts map[string]string // of attrs, canonical, as far as they were asked for
}

// text is the canonical text of an attribute.
func (it *item) text(attr string) string {
	t, known := it.texts[attr]
	if !known {
		if it.texts == nil {
			it.texts = make(map[string]string, len(it.attrs))
		}
		t = canonical(it.attrs[attr])
		it.texts[attr] = t
	}
	return t
}

// other is a thing that is looked up.
type other struct {
	key   string
	typ   *schema.Type
	match map[string]any
}

// gathering makes items of things.
type gathering struct {
	driver  string
	found   []Found
	items   map[string]*item
	order   []*item
	others  map[string]*other
	inputs  map[string]*input
	secrets []Secret
	left    []string // what could not be declared, and why

	keys    []map[string]string // per environment: `TYPE ID` -> key
	things  []map[string]Thing  // per environment: `TYPE ID`
	outputs []map[string]toItem // per environment: values that the cloud decided, of one thing alone
	ids     []map[string]toItem // per environment: what has an id, where one type alone has it
	short   map[string]string   // by key: a name that no other thing of the type has
}

// input is a value that differs between environments.
type input struct {
	name string
	attr *schema.Attribute
	is   map[string]any // by environment
}

// Secret is one that has to be given before the file can be used.
type Secret struct {
	Name      string `json:"name"`
	Address   string `json:"address"`
	Attribute string `json:"attribute"`
}

func gather(driver string, found []Found) *gathering {
	g := &gathering{driver: driver, found: found, items: map[string]*item{}, others: map[string]*other{},
		inputs: map[string]*input{}, short: map[string]string{}}
	for i := range found {
		g.index(i)
	}
	for i := range found {
		g.merge(i)
	}
	slices.SortFunc(g.order, func(a, b *item) int { return cmp.Or(cmp.Compare(a.typ.Name, b.typ.Name), natural(a.name, b.name)) })
	for _, it := range g.order {
		g.declare(it)
	}
	return g
}

// natural compares names as people do: 9 comes before 10.
func natural(a, b string) int {
	digits := func(s string) int {
		return len(s) - len(strings.TrimLeft(s, "0123456789"))
	}
	for x, y := a, b; x != "" && y != ""; x, y = x[1:], y[1:] {
		if n, m := digits(x), digits(y); n > 0 && m > 0 {
			p, q := strings.TrimLeft(x[:n], "0"), strings.TrimLeft(y[:m], "0")
			if c := cmp.Or(len(p)-len(q), cmp.Compare(p, q)); c != 0 {
				return c
			}
			x, y = x[n-1:], y[m-1:]
			continue
		}
		if x[0] != y[0] {
			return cmp.Compare(x[0], y[0])
		}
	}
	return cmp.Compare(a, b)
}

func thingKey(typ, id string) string { return typ + " " + id }

// index gives each thing of an environment a key that it has in the others, too.
func (g *gathering) index(i int) {
	f := g.found[i]
	keys, things := map[string]string{}, make(map[string]Thing, len(f.Things))
	for _, t := range f.Things {
		things[thingKey(t.Type.Name, t.ID)] = t
	}
	var keyOf func(t Thing, depth int) string
	keyOf = func(t Thing, depth int) string {
		at := thingKey(t.Type.Name, t.ID)
		if k := keys[at]; k != "" {
			return k
		}
		var parts []string
		names, _ := identityOf(t.Type)
		if n, ok := t.Attributes["name"].(string); ok && n != "" && !slices.Contains(names, "name") {
			names = append(slices.Clone(names), "name")
		}
		for _, name := range names {
			v := t.Attributes[name]
			a := t.Type.Attribute(name)
			if id, isText := v.(string); isText && a != nil && a.Refers != "" && depth < 8 {
				if of, there := things[thingKey(a.Refers, id)]; there {
					v = strings.TrimPrefix(keyOf(of, depth+1), a.Refers+" ")
				}
			}
			if s, isText := v.(string); isText {
				v = g.plain(i, s)
			}
			if v != nil {
				parts = append(parts, value.Plain(v))
			}
		}
		return t.Type.Name + " " + strings.Join(parts, "-")
	}
	sorted := slices.SortedFunc(slices.Values(f.Things), func(a, b Thing) int {
		return cmp.Or(cmp.Compare(a.Type.Name, b.Type.Name), cmp.Compare(len(a.ID), len(b.ID)), cmp.Compare(a.ID, b.ID))
	})
	called := map[string]int{}
	for _, t := range sorted {
		if n, ok := t.Attributes["name"].(string); ok {
			called[t.Type.Name+" "+g.plain(i, n)]++
		}
	}
	taken := map[string]int{}
	ids := map[string]toItem{}
	outputs, twice := map[string]toItem{}, map[string]bool{}
	for _, t := range sorted {
		k := keyOf(t, 0)
		if taken[k]++; taken[k] > 1 || strings.HasSuffix(k, " ") {
			k = strings.TrimSuffix(k, "-") + "-" + strconv.Itoa(taken[k])
		}
		keys[thingKey(t.Type.Name, t.ID)] = k
		if _, there := ids[t.ID]; there {
			ids[t.ID] = toItem{}
		} else {
			ids[t.ID] = toItem{k, t.Type.ID}
		}
		if n, ok := t.Attributes["name"].(string); ok && n != "" && called[t.Type.Name+" "+g.plain(i, n)] == 1 {
			g.short[k] = g.plain(i, n)
		}
		for _, a := range t.Type.Attributes {
			text, isText := t.Attributes[a.Name].(string)
			if !a.Output || a.Name == t.Type.ID || a.Moves || a.Secret || !isText || len(text) < 7 || !strings.ContainsAny(text, ".:/") {
				continue
			}
			if _, there := outputs[text]; there {
				twice[text] = true
			}
			outputs[text] = toItem{k, a.Name}
		}
	}
	for text := range twice {
		delete(outputs, text)
	}
	g.ids = append(g.ids, ids)
	g.keys, g.things, g.outputs = append(g.keys, keys), append(g.things, things), append(g.outputs, outputs)
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

// merge makes items of an environment's things, or adds it to those that are there.
func (g *gathering) merge(i int) {
	f := g.found[i]
	names := map[string]bool{}
	for _, it := range g.order {
		names[it.typ.Name+" "+it.name] = true
	}
	for _, f := range g.found {
		maps.Copy(names, f.Declared)
	}
	for _, t := range f.Things {
		key := g.keys[i][thingKey(t.Type.Name, t.ID)]
		it := g.items[key]
		if it == nil {
			base := addressName(cmp.Or(g.short[key], strings.TrimPrefix(key, t.Type.Name+" ")))
			name := base
			if f.Declared[t.Type.Name+" "+name] {
				g.left = append(g.left, fmt.Sprintf("%s.%s/%s is declared already: if it is %s, `kasbah adopt -find` takes it", g.driver,
					t.Type.Name, name, t.ID))
			}
			for n := 2; names[t.Type.Name+" "+name]; n++ {
				name = fmt.Sprintf("%s-%d", base, n)
			}
			names[t.Type.Name+" "+name] = true
			it = &item{key: key, typ: t.Type, name: name, ids: map[string]string{}}
			g.items[key] = it
			g.order = append(g.order, it)
		}
		it.ids[f.Env] = t.ID
	}
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

// declare finds what an item is declared with.
func (g *gathering) declare(it *item) {
	it.attrs = map[string]any{}
	for _, a := range it.typ.Attributes {
		if a.Output {
			continue
		}
		if a.Secret {
			if a.Required {
				name := strings.TrimSuffix(variable(it.name+"_"+a.Name), "_") // a-z, 0-9 and _
				g.secrets = append(g.secrets, Secret{Name: name, Address: g.driver + "." + it.typ.Name + "/" + it.name, Attribute: a.Name})
				it.attrs[a.Name] = verbatim{"secret(" + quoted(name) + ")"}
			}
			continue
		}
		if a.Name == "name" && it.typ.NamedByPattern() && g.namedByPattern(it) {
			continue
		}
		is, some := map[string]any{}, false
		for i, f := range g.found {
			if it.ids[f.Env] == "" {
				continue
			}
			v := g.things[i][thingKey(it.typ.Name, it.ids[f.Env])].Attributes[a.Name]
			if a.HasDefault && (v == nil || value.Equal(v, a.Default)) || !a.HasDefault && value.Empty(v) && !a.Required {
				is[f.Env] = nil
				continue
			}
			is[f.Env], some = g.tree(i, v, a, it.key), true
		}
		if some {
			it.attrs[a.Name] = g.united(it, a, is)
		}
	}
	seen := map[string]bool{}
	for _, name := range value.Keys(it.attrs) {
		leaves(it.attrs[name], func(leaf any) {
			if to, ok := leaf.(toItem); ok && !seen[to.key] {
				seen[to.key] = true
				it.needs = append(it.needs, to.key)
			}
		})
	}
}

// namedByPattern reports whether the estate's pattern gives an item the name that it has, everywhere.
func (g *gathering) namedByPattern(it *item) bool {
	for i, f := range g.found {
		if id := it.ids[f.Env]; id != "" &&
			g.things[i][thingKey(it.typ.Name, id)].Attributes["name"] != strings.ReplaceAll(f.Names, "{name}", it.name) {
			return false
		}
	}
	return true
}

// tree is a value with what it refers to in place of ids.
func (g *gathering) tree(i int, v any, a *schema.Attribute, of string) any {
	switch v := v.(type) {
	case string:
		if a != nil && a.Refers != "" {
			return g.reference(i, a.Refers, v)
		}
		if to, ok := g.outputs[i][v]; ok && to.key != of {
			return to
		}
		if text, ok := g.withID(i, v); ok && text.key != of {
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
	isWord := func(c rune) bool {
		return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_'
	}
	for _, word := range strings.FieldsFunc(s, func(c rune) bool { return !isWord(c) }) {
		if to, ok := g.ids[i][word]; ok && len(word) >= shortestID && strings.ContainsAny(word, "0123456789") && strings.Count(s, word) == 1 && to.key != "" {
			return textOf{strings.Replace(s, word, "%s", 1), to.key, to.output}, true
		}
	}
	return textOf{}, false
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

// reference is how a thing is written that another one refers to by its id.
func (g *gathering) reference(i int, typ, id string) any {
	if key := g.keys[i][thingKey(typ, id)]; key != "" {
		return toItem{key: key}
	}
	f := g.found[i]
	if f.Managed != nil {
		if code := f.Managed(typ, id); code != "" {
			return verbatim{code}
		}
	}
	t, there := f.Others[thingKey(typ, id)]
	if !there {
		return id
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
	if g.others[key] == nil {
		g.others[key] = &other{key, t.Type, match}
	}
	return toOther{key}
}

// united is what an attribute is declared as in all environments.
func (g *gathering) united(it *item, a *schema.Attribute, is map[string]any) any {
	envs := value.Keys(is)
	first, same := is[envs[0]], true
	for _, env := range envs[1:] {
		same = same && canonical(is[env]) == canonical(first)
	}
	if same {
		return first
	}
	if templates := g.templates(is); templates != nil {
		return templates
	}
	in := &input{name: variable(it.name) + "_" + variable(a.Name), attr: a, is: map[string]any{}}
	for n := 2; g.inputs[in.name] != nil; n++ {
		in.name = fmt.Sprintf("%s_%s_%d", variable(it.name), variable(a.Name), n)
	}
	for env, v := range is {
		plain := true
		leaves(v, func(leaf any) {
			switch leaf.(type) {
			case toItem, toOther, textOf, verbatim:
				plain = false
			}
		})
		if !plain {
			g.left = append(g.left, fmt.Sprintf("%s/%s: %s refers to other things in each environment", it.typ.Name, it.name, a.Name))
			return first
		}
		if v == nil {
			v = a.Default
		}
		in.is[env] = v
	}
	g.inputs[in.name] = in
	return asInput{in.name}
}

// templates is one text of the environment's name that gives all of some texts; nil where there is none.
func (g *gathering) templates(is map[string]any) any {
	text := ""
	for i, f := range g.found {
		v, given := is[f.Env]
		if !given {
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
