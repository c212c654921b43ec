package adopt

import (
	"kasbah/core/schema"
	"slices"
	"strconv"
	"strings"
)

// unit is what is declared by one call, or by a table and a loop over it.
type unit struct {
	items []*item
	spread
	columns []string          // attributes that are in the table
	maps    map[string]string // attributes that an input gives by name, with the input
	where   string            // the environments that have it, as code; "" for all
	kit     *group            // nil for what is none
}

// spread is how the attributes of the items of a table differ. It is empty for one item.
type spread struct {
	names    affix
	byName   map[string]string // attributes that follow from the names, with the code that gives them
	sameName map[string]bool   // those that refer to items of the same names
	varying  []string          // in which the items differ besides
}

// has reports whether a unit may need one of its own: a kit puts them into order.
func (u *unit) has(it *item) bool { return u.kit != nil && it.kit == u.kit }

// written are the items as the file declares them, each with how many it stands for.
func (u *unit) written(yield func(it *item, n int) bool) {
	if u.kit == nil {
		yield(u.items[0], len(u.items))
		return
	}
	for _, r := range u.kit.roles {
		if !yield(r.as, len(r.items)) {
			return
		}
	}
}

// fewest is how many resources of one type make a table, and widest how many attributes it has.
const fewest, widest = 5, 4

// units puts alike items of a type into tables.
func (c *coder) units() []*unit {
	type class struct{ typ, where string }
	var order []class
	by := map[class][]*item{}
	var out []*unit
	for _, g := range c.kits {
		g.gatherInputs(c)
		u := &unit{kit: g}
		for _, r := range g.roles {
			for n, it := range r.items {
				it.kit, it.within, it.called = g, g.called(n), r.as.name
			}
			u.items = append(u.items, r.items...)
		}
		out = append(out, u)
	}
	for _, it := range c.g.order {
		if it.kit != nil {
			continue
		}
		k := class{it.typ.Name, c.where(it)}
		if by[k] == nil {
			order = append(order, k)
		}
		by[k] = append(by[k], it)
	}
	for _, k := range order {
		for _, class := range classes(by[k]) {
			for _, u := range c.split(class) {
				u.columns, u.where, u.maps = u.varying, k.where, map[string]string{}
				c.gatherInputs(u)
				out = append(out, u)
			}
		}
	}
	return out
}

// where is code for the environments that an item is in, where it is not in all.
func (c *coder) where(it *item) string {
	if it.everywhere() {
		return ""
	}
	var envs []string
	for i, t := range it.at {
		if t != nil {
			envs = append(envs, quoted(c.g.found[i].Env))
		}
	}
	if len(envs) == 1 {
		return "env == " + envs[0]
	}
	return "env in [" + strings.Join(envs, ", ") + "]"
}

// classes are items that have the same attributes, those together of which there are few.
func classes(items []*item) [][]*item {
	var keys []string
	var has []byte // the attributes of one, by number
	by := map[string][]*item{}
	for _, it := range items {
		has = has[:0]
		for i, a := range it.typ.Attributes {
			if _, given := it.attrs[a.Name]; given {
				has = strconv.AppendInt(append(has, ' '), int64(i), 36)
			}
		}
		k := string(has)
		if by[k] == nil {
			keys = append(keys, k)
		}
		by[k] = append(by[k], it)
	}
	var out [][]*item
	var rest []*item
	for _, k := range keys {
		if len(by[k]) >= fewest {
			out = append(out, by[k])
		} else {
			rest = append(rest, by[k]...)
		}
	}
	if len(rest) > 0 {
		out = append(out, rest)
	}
	return out
}

// split makes tables of items that differ in few attributes.
func (c *coder) split(items []*item) []*unit {
	alone := func() (out []*unit) {
		for _, it := range items {
			out = append(out, &unit{items: []*item{it}})
		}
		return out
	}
	if len(items) < fewest {
		return alone()
	}
	differ := c.spread(items)
	if odd, rest := c.odd(items, differ.varying); odd != nil {
		return append(c.split(rest), c.split(odd)...)
	}
	varying := differ.varying
	if len(varying) <= widest {
		in := make(map[string]bool, len(items))
		for _, it := range items {
			in[it.key] = true
		}
		for _, it := range items { // one that needs another of the same table cannot be in it
			if slices.ContainsFunc(it.needs, func(need string) bool { return in[need] }) {
				return alone()
			}
		}
		return []*unit{{items: items, spread: differ}}
	}
	best, most := "", 0
	for _, name := range varying {
		values := map[any]bool{}
		for _, it := range items {
			values[it.comparable(name)] = true
		}
		if best == "" || len(values) < most {
			best, most = name, len(values)
		}
	}
	var keys []any
	by := map[any][]*item{}
	for _, it := range items {
		k := it.comparable(best)
		if by[k] == nil {
			keys = append(keys, k)
		}
		by[k] = append(by[k], it)
	}
	var out []*unit
	for _, k := range keys {
		out = append(out, c.split(by[k])...)
	}
	return out
}

// many is how large a table is from which a few odd ones are taken out.
const many = 50

// odd are a few items of a large table that alone have other values of an attribute.
func (c *coder) odd(items []*item, varying []string) (odd, rest []*item) {
	if len(items) < many {
		return nil, nil
	}
	for _, name := range varying {
		count := map[any]int{}
		for _, it := range items {
			if count[it.comparable(name)]++; len(count) > fewest { // more differ from the usual one
				break
			}
		}
		for usual, n := range count {
			if n < len(items) && n > len(items)-fewest {
				for _, it := range items {
					if it.comparable(name) == usual {
						rest = append(rest, it)
					} else {
						odd = append(odd, it)
					}
				}
				return odd, rest
			}
		}
	}
	return nil, nil
}

// affix is what stands before and after what tells names apart.
type affix struct{ before, after string }

// core is what tells an item's name from the others.
func (a affix) core(it *item) string { return it.name[len(a.before) : len(it.name)-len(a.after)] }

// affixOf is what the names of some items have in common, up to a mark between words.
func affixOf(items []*item) affix {
	before, after := items[0].name, items[0].name
	for _, it := range items[1:] {
		for !strings.HasPrefix(it.name, before) {
			before = before[:len(before)-1]
		}
		for !strings.HasSuffix(it.name, after) {
			after = after[1:]
		}
	}
	const marks = "-._/"
	a := affix{before[:strings.LastIndexAny(before, marks)+1], ""}
	if n := strings.IndexAny(after, marks); n >= 0 {
		a.after = after[n:]
	}
	for _, it := range items {
		if len(it.name) <= len(a.before)+len(a.after) || len(items) == 1 || strings.Contains(a.before+a.after, "%") {
			return affix{}
		}
	}
	return a
}

// around is code for a text with what stands before and after the loop's name.
func (a affix) around() string {
	switch {
	case a == affix{}:
		return "name"
	case a.after == "":
		return quoted(a.before) + " + name"
	case a.before == "":
		return "name + " + quoted(a.after)
	}
	return quoted(a.before+"%s"+a.after) + " % name"
}

// spread finds how the attributes of items differ.
func (c *coder) spread(items []*item) spread {
	out := spread{names: affixOf(items), byName: map[string]string{}, sameName: map[string]bool{}}
	for _, a := range items[0].typ.Attributes {
		if by := byName(items, out.names, a.Name); by != "" {
			out.byName[a.Name] = by
			continue
		}
		if c.sameName(items, out.names, a.Name) {
			out.sameName[a.Name] = true
			continue
		}
		first := items[0].comparable(a.Name)
		if !allInputs(items, a.Name) && slices.ContainsFunc(items, func(it *item) bool { return it.comparable(a.Name) != first }) {
			out.varying = append(out.varying, a.Name)
		}
	}
	return out
}

// byName is code that gives an attribute of each item from its name; "" where none does.
func byName(items []*item, names affix, attr string) string {
	if len(items) < 2 {
		return ""
	}
	text := func(it *item) (string, bool) {
		switch v := it.attrs[attr].(type) {
		case string:
			return v, true
		case ofEnv:
			return v.text, true
		}
		return "", false
	}
	first, ok := text(items[0])
	before, after, found := strings.Cut(first, names.core(items[0]))
	_, env := items[0].attrs[attr].(ofEnv)
	if !ok || !found || !env && strings.Contains(before+after, "%") {
		return ""
	}
	for _, it := range items {
		is, ok := text(it)
		if _, same := it.attrs[attr].(ofEnv); !ok || same != env || is != before+names.core(it)+after {
			return ""
		}
	}
	switch {
	case !env:
		return affix{before, after}.around()
	case strings.Contains(before, "%s"):
		return quoted(before+"%s"+after) + " % (env, name)"
	}
	return quoted(before+"%s"+after) + " % (name, env)"
}

// allInputs reports whether an attribute of each item differs between environments.
func allInputs(items []*item, attr string) bool {
	return !slices.ContainsFunc(items, func(it *item) bool {
		_, ok := it.attrs[attr].(asInput)
		return !ok
	})
}

// gatherInputs makes one input, a map by the names of a table, of those that each item has.
func (c *coder) gatherInputs(u *unit) {
	for _, a := range u.items[0].typ.Attributes {
		if len(u.items) == 1 || !allInputs(u.items, a.Name) {
			continue
		}
		names, cells := make([]string, len(u.items)), make([]any, len(u.items))
		for i, it := range u.items {
			names[i], cells[i] = u.names.core(it), it.attrs[a.Name]
		}
		u.maps[a.Name] = c.mapInput(u.items[0].typ.Name+"_"+a.Name, a, names, cells)
	}
}

// mapInput puts one input, a map by some names, in place of one for each of them. It returns its name.
func (c *coder) mapInput(like string, a *schema.Attribute, names []string, cells []any) string {
	in := &input{name: c.variable(like), attr: &schema.Attribute{Kind: schema.MapOf, Elem: a}, is: map[string]any{}}
	for i, cell := range cells {
		one := cell.(asInput).name
		for env, v := range c.g.inputs[one].is {
			if in.is[env] == nil {
				in.is[env] = map[string]any{}
			}
			in.is[env].(map[string]any)[names[i]] = v
		}
		delete(c.g.inputs, one)
	}
	c.g.inputs[in.name] = in
	return in.name
}

// sameName reports whether an attribute of each item refers to an item whose name has the same core.
func (c *coder) sameName(items []*item, names affix, attr string) bool {
	var first affix
	for i, it := range items {
		to, ok := it.attrs[attr].(toItem)
		if !ok || to.output != "" {
			return false
		}
		before, after, found := strings.Cut(c.g.items[to.key].name, names.core(it))
		if !found || i > 0 && first != (affix{before, after}) {
			return false
		}
		first = affix{before, after}
	}
	return true
}
