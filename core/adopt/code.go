package adopt

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"kasbah/core/declare"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// FoundFormat is the format of Written as JSON.
const FoundFormat = "kasbah.found/1"

// Written is code for things that were found.
type Written struct {
	Format  string                       `json:"format"`
	File    string                       `json:"file"` // below the estate's folder
	Ward    string                       `json:"ward"`
	Text    string                       `json:"text"`    // of the file
	Inputs  map[string]map[string]any    `json:"inputs"`  // values by environment and name
	Things  map[string]map[string]string `json:"things"`  // by environment: ids by the address without its ward
	Secrets []Secret                     `json:"secrets"` // what has to be given first
	Left    []string                     `json:"left"`    // what a person has to look at, each a sentence
	Kits    []string                     `json:"kits"`    // what could be kits, each a sentence
	Proven  []string                     `json:"proven"`  // the environments in which a proposal with the file only adopts
}

// Count is how many things are declared, in all environments.
func (w *Written) Count() int {
	n := 0
	for _, things := range w.Things {
		n += len(things)
	}
	return n
}

// Write declares what was found in some environments, as a colleague would. The text is laid out as
// core/tidy lays it out.
//
// With kits, resources of the same shape around several roots become a kit.
func Write(driver string, found []Found, kits bool) *Written {
	g := gather(driver, found)
	c := &coder{g: g, names: map[string]bool{driver: true}, refer: map[string]string{}, shared: map[string]string{}, loads: map[loaded]string{}}
	for name := range g.inputs {
		c.names[name] = true
	}
	out := &Written{Format: FoundFormat, Left: []string{}, Kits: []string{}, Proven: []string{}, Inputs: map[string]map[string]any{}, Things: map[string]map[string]string{}, Secrets: append([]Secret{}, g.secrets...)}
	for _, f := range found {
		out.Inputs[f.Env], out.Things[f.Env] = map[string]any{}, map[string]string{}
	}
	var offers sync.WaitGroup
	if kits {
		c.kits = c.groups()
	} else {
		offers.Go(func() {
			for _, g := range c.groups() {
				out.Kits = append(out.Kits, g.offer())
			}
		})
	}
	units := c.units()
	offers.Wait() // items change when circles are taken apart
	out.Text = c.file(units)
	for _, it := range g.order {
		address := it.address(driver)
		for i, t := range it.at {
			if t != nil {
				out.Things[found[i].Env][address] = t.ID
			}
		}
	}
	for _, in := range g.inputs {
		for env, v := range in.is {
			out.Inputs[env][in.name] = v
		}
	}
	out.Left = append(out.Left, g.left...)
	return out
}

// coder writes the file.
type coder struct {
	g      *gathering
	b      strings.Builder
	names  map[string]bool   // variables that are taken
	refer  map[string]string // by key: how an item or other thing is written
	shared map[string]string // values that stand at the top, by their canonical text
	lists  map[string]string // lists of names that several loops go over, by their code: a variable
	used   map[string]bool   // keys that something refers to
	kits   []*group
	loads  map[loaded]string // the variable of what is loaded
}

func (c *coder) file(units []*unit) string {
	units = c.sorted(units)
	c.used = map[string]bool{}
	for _, it := range c.g.order {
		for _, need := range it.needs {
			c.used[need] = true
		}
	}
	c.share(units)
	c.shareLists(units)
	envs := make([]string, len(c.g.found))
	for i, f := range c.g.found {
		envs[i] = f.Env
	}
	fmt.Fprintf(&c.b, "# Written by `kasbah adopt` from what was found in %s.\n\n", strings.Join(envs, " and "))
	c.load()
	for _, name := range value.Keys(c.g.inputs) {
		fmt.Fprintf(&c.b, "%s = input(%s%s)\n", name, quoted(name), kindOf(c.g.inputs[name].attr))
	}
	c.blank()
	for _, key := range value.Keys(c.g.others) {
		o := c.g.others[key]
		hint := o.typ.Name
		if s, ok := o.match["name"].(string); ok {
			hint = s
		}
		name := c.variable(hint)
		c.refer[key] = name
		fmt.Fprintf(&c.b, "%s = %s.%s.find(%s)\n", name, c.g.driver, declare.Identifier(o.typ.Name), c.arguments(o.match, o.typ))
	}
	c.blank()
	texts := map[string]string{} // of the shared values, by variable
	for _, u := range units {
		for it := range u.written {
			for _, v := range it.attrs {
				if name := c.shared[canonical(v)]; name != "" {
					var b strings.Builder
					write(&b, v, c.leaf)
					texts[name] = b.String()
				}
			}
		}
	}
	for _, list := range value.Keys(c.lists) {
		texts[c.lists[list]] = list
	}
	for _, name := range value.Keys(texts) {
		fmt.Fprintf(&c.b, "%s = %s\n", name, texts[name])
	}
	last, long := "", false
	for _, u := range units {
		if u.kit != nil {
			c.blank()
			c.kit(u.kit)
			last, long = "", true
			continue
		}
		at := u.items[0].typ.Name + u.where
		if at != last || len(u.items) > 1 || long {
			c.blank()
		}
		last, long = at, len(u.items) > 1
		c.settle(u)
		c.unit(u)
	}
	return c.b.String()
}

// load writes what other files of the ward give.
func (c *coder) load() {
	for _, file := range value.Keys(c.g.loads) {
		args := []string{quoted(file)}
		for _, name := range value.Keys(c.g.loads[file]) {
			as := c.variable(name)
			c.loads[loaded{file: file, name: name}] = as
			if as == name {
				args = append(args, quoted(name))
			} else {
				args = append(args, as+" = "+quoted(name))
			}
		}
		fmt.Fprintf(&c.b, "load(%s)\n", strings.Join(args, ", "))
	}
	c.blank()
}

// blank writes an empty line, but for a second one.
func (c *coder) blank() {
	if !strings.HasSuffix(c.b.String(), "\n\n") {
		c.b.WriteString("\n")
	}
}

// settle puts into a table what refers to things of the same names that are not in one table.
func (c *coder) settle(u *unit) {
	for _, a := range u.items[0].typ.Attributes {
		if len(u.items) == 1 || slices.Contains(u.columns, a.Name) || !u.sameName[a.Name] {
			continue
		}
		table := ""
		for i, it := range u.items {
			t, ok := strings.CutSuffix(c.refer[it.attrs[a.Name].(toItem).key], "["+quoted(u.names.core(it))+"]")
			if !ok || i > 0 && t != table {
				u.columns = append(u.columns, a.Name)
				break
			}
			table = t
		}
	}
}

// sorted puts what is needed first. What waits for itself is declared alone, and by its id at last.
func (c *coder) sorted(units []*unit) []*unit {
	var out []*unit
	done := map[string]bool{}
	for len(units) > 0 {
		var rest []*unit
		for _, u := range units {
			ready := true
			for _, it := range u.items {
				for _, need := range it.needs {
					ready = ready && (done[need] || u.has(c.g.items[need]))
				}
			}
			if !ready {
				rest = append(rest, u)
				continue
			}
			out = append(out, u)
			for _, it := range u.items {
				done[it.key] = true
			}
		}
		if len(rest) == len(units) {
			rest = c.loosen(rest, done)
		}
		units = rest
	}
	return out
}

// loosen takes a table apart that is in a circle, else writes what one item refers to as an id.
func (c *coder) loosen(units []*unit, done map[string]bool) []*unit {
	for i, u := range units {
		if len(u.items) > 1 && u.kit == nil {
			out := slices.Clone(units[:i])
			for _, it := range u.items {
				out = append(out, &unit{items: []*item{it}, where: u.where})
			}
			if len(u.maps) > 0 { // what one input gives is given one by one no more
				for _, it := range u.items {
					for attr, name := range u.maps {
						it.attrs[attr] = verbatim{name + "[" + quoted(u.names.core(it)) + "]"}
					}
				}
			}
			return append(out, units[i+1:]...)
		}
	}
	it := units[slices.IndexFunc(units, func(u *unit) bool { return u.kit == nil })].items[0]
	for name, v := range it.attrs {
		it.attrs[name] = replaced(v, func(leaf any) any {
			to, ok := leaf.(toItem)
			if text, is := leaf.(textOf); is && !done[text.key] {
				return strings.Replace(text.format, "%s", c.g.items[text.key].id(), 1)
			}
			if !ok || done[to.key] {
				return leaf
			}
			if to.output == "" {
				return c.g.items[to.key].id()
			}
			return nil
		})
	}
	c.g.left = append(c.g.left, fmt.Sprintf("%s/%s refers to things that refer to it: their ids are written", it.typ.Name, it.name))
	it.needs = slices.DeleteFunc(slices.Clone(it.needs), func(k string) bool { return !done[k] })
	return units
}

func replaced(v any, f func(any) any) any {
	switch v := v.(type) {
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = replaced(v[i], f)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k := range v {
			out[k] = replaced(v[k], f)
		}
		return out
	}
	return f(v)
}

// longText is how long a text is that is worth a name when several resources share it.
const longText = 24

// isLarge reports whether a value is worth a name when several resources share it.
func isLarge(v any) bool {
	switch v := v.(type) {
	case map[string]any:
		return len(v) > 0
	case []any:
		return len(v) > 1
	case string:
		return len(v) >= longText
	}
	return false
}

// share gives values a name that at least three resources have, in two places of the file or more.
func (c *coder) share(units []*unit) {
	type use struct {
		places, resources int
		attr              string
		v                 any
	}
	uses := map[string]*use{}
	for _, u := range units {
		for it, n := range u.written {
			for _, attr := range value.Keys(it.attrs) {
				v := it.attrs[attr]
				if !isLarge(v) {
					continue
				}
				if !isPlain(v) || slices.Contains(u.columns, attr) || u.byName[attr] != "" {
					continue
				}
				k := canonical(v)
				if uses[k] == nil {
					uses[k] = &use{attr: attr, v: v}
				}
				uses[k].places++
				uses[k].resources += n
			}
		}
	}
	for _, k := range value.Keys(uses) {
		if x := uses[k]; x.places >= 2 && x.resources >= 3 {
			name := variable(x.attr)
			if m, ok := x.v.(map[string]any); ok {
				name = variable(value.Keys(m)[0]) + "_" + name
			}
			c.shared[k] = c.variable(name)
		}
	}
}

// shareLists gives lists of names a name of their own that several loops go over.
func (c *coder) shareLists(units []*unit) {
	c.lists = map[string]string{}
	loops := map[string]int{}
	for _, u := range units {
		if u.kit == nil && len(u.items) > 1 && len(u.columns) == 0 {
			list := u.list()
			if loops[list]++; loops[list] == 2 {
				c.lists[list] = ""
			}
		}
	}
	for _, list := range value.Keys(c.lists) {
		c.lists[list] = c.variable("names")
	}
}

// list is code for the names of a table.
func (u *unit) list() string {
	names := make([]string, len(u.items))
	for i, it := range u.items {
		names[i] = quoted(u.names.core(it))
	}
	if line := "[" + strings.Join(names, ", ") + "]"; len(line) < wide-20 {
		return line
	}
	return "[\n    " + strings.Join(names, ",\n    ") + ",\n]"
}

// variable is a name that is not taken yet.
func (c *coder) variable(like string) string {
	name := variable(like)
	for n := 2; c.names[name] || predeclared[name]; n++ {
		name = fmt.Sprintf("%s_%d", variable(like), n)
	}
	c.names[name] = true
	return name
}

// predeclared are names that mean something else.
var predeclared = map[string]bool{"input": true, "publish": true, "published": true, "secret": true, "care": true,
	"kit": true, "file": true, "env": true, "ward": true, "estate": true, "cidr": true, "struct": true, "json": true,
	"math": true, "fail": true, "kind": true, "name": true, "rule": true, "range": true, "type": true, "list": true,
	"dict": true, "set": true, "str": true, "int": true, "float": true, "bool": true, "bytes": true, "len": true,
	"min": true, "max": true, "any": true, "all": true, "zip": true, "hash": true, "dir": true, "tuple": true}

// variable is a text as a variable's name.
func variable(s string) string {
	s = strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '_'
	}, s)
	s = strings.Trim(s, "_")
	for strings.Contains(s, "__") {
		s = strings.ReplaceAll(s, "__", "_")
	}
	if s == "" || s[0] >= '0' && s[0] <= '9' {
		s = "x" + s
	}
	return declare.Identifier(s)
}

func quoted(s string) string { return declare.Literal(s) }

// unit writes a unit.
func (c *coder) unit(u *unit) {
	indent := ""
	if u.where != "" {
		fmt.Fprintf(&c.b, "if %s:\n", u.where)
		indent = "    "
	}
	it := u.items[0]
	call := c.g.driver + "." + declare.Identifier(it.typ.Name)
	if len(u.items) == 1 {
		before := ""
		if c.used[it.key] {
			name := c.variable(it.name)
			c.refer[it.key], before = name, name+" = "
		}
		c.b.WriteString(indent + before + c.call(call, quoted(it.name), it, nil, indent) + "\n")
		return
	}
	used := slices.ContainsFunc(u.items, func(it *item) bool { return c.used[it.key] })
	over := c.over(u)
	if !used {
		fmt.Fprintf(&c.b, "%sfor %s in %s:\n%s    %s\n", indent, over, c.table(u, indent), indent,
			c.call(call, u.names.around(), it, u, indent+"    "))
		return
	}
	plural := c.variable(it.typ.Name + "s")
	fmt.Fprintf(&c.b, "%s%s = {\n%s    name: %s\n%s    for %s in %s\n%s}\n", indent, plural, indent,
		c.call(call, u.names.around(), it, u, indent+"    "), indent, over, c.table(u, indent+"    "), indent)
	for _, it := range u.items {
		c.refer[it.key] = plural + "[" + quoted(u.names.core(it)) + "]"
	}
}

// over are the variables of a loop over a table.
func (c *coder) over(u *unit) string {
	columns := make([]string, len(u.columns))
	for i, name := range u.columns {
		columns[i] = c.column(name)
	}
	switch len(columns) {
	case 0:
		return "name"
	case 1:
		return "name, " + columns[0]
	}
	return "name, (" + strings.Join(columns, ", ") + ")"
}

// column is the variable of a loop for an attribute.
func (c *coder) column(attr string) string {
	name := variable(attr)
	if c.names[name] || predeclared[name] {
		return "its_" + name
	}
	return name
}

// table is what a loop goes over.
func (c *coder) table(u *unit, indent string) string {
	if len(u.columns) == 0 {
		list := u.list()
		return cmp.Or(c.lists[list], strings.ReplaceAll(list, "\n", "\n"+indent))
	}
	var b strings.Builder
	b.WriteString("{")
	for _, it := range u.items {
		b.WriteString("\n" + indent + "    " + quoted(u.names.core(it)) + ": ")
		if len(u.columns) > 1 {
			b.WriteString("(")
		}
		for i, name := range u.columns {
			if i > 0 {
				b.WriteString(", ")
			}
			c.write(&b, it.attrs[name])
		}
		if len(u.columns) > 1 {
			b.WriteString(")")
		}
		b.WriteString(",")
	}
	return b.String() + "\n" + indent + "}.items()"
}

// wide is how long a line may be.
const wide = 110

// call is the call that declares an item, or each of a table.
func (c *coder) call(function, name string, it *item, u *unit, indent string) string {
	args := []string{name}
	for _, a := range it.typ.Attributes {
		text := ""
		switch {
		case u != nil && slices.Contains(u.columns, a.Name):
			text = c.column(a.Name)
		case u != nil && u.maps[a.Name] != "":
			text = u.maps[a.Name] + "[name]"
		case u != nil && u.byName[a.Name] != "":
			text = u.byName[a.Name]
		case u != nil && u.sameName[a.Name]:
			text = strings.TrimSuffix(c.refer[it.attrs[a.Name].(toItem).key], quoted(u.names.core(it))+"]") + "name]"
		case it.attrs[a.Name] != nil:
			text = c.code(it.attrs[a.Name])
		default:
			continue
		}
		args = append(args, declare.Identifier(a.Name)+" = "+text)
	}
	line := function + "(" + strings.Join(args, ", ") + ")"
	if len(indent)+len(line) <= wide && !strings.Contains(line, "\n") {
		return line
	}
	return function + "(\n" + indent + "    " + strings.Join(args, ",\n"+indent+"    ") + ",\n" + indent + ")"
}

// arguments are those of find.
func (c *coder) arguments(match map[string]any, t *schema.Type) string {
	var args []string
	for _, a := range t.Attributes {
		if v, ok := match[a.Name]; ok {
			args = append(args, declare.Identifier(a.Name)+" = "+c.code(v))
		}
	}
	return strings.Join(args, ", ")
}
