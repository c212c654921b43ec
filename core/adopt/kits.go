package adopt

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/form"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// group is a kit to be: resources of the same shape around several roots, such as a subnet with its
// machine and disk.
type group struct {
	name     string   // of its root in each instance
	names    []string // what tells the instances apart, in the order of the items of each role
	instance affix    // what an instance is called beside that
	roles    []*role  // what is needed first
	inputs   []*param
	named    bool // its code uses the instance's name
}

// role is one resource of each instance.
type role struct {
	items    []*item
	as       *item  // as the kit declares it
	variable string // in the kit's code; "" where nothing refers to it
	out      bool   // something outside of the instances refers to it
}

// param is an input of a kit.
type param struct {
	name  string
	role  *role
	attr  *schema.Attribute
	kind  string
	cells []any  // by instance
	gives string // the input, a map by instance, that has them; "" for a column of the table
}

// roots is how many roots of the same shape make a kit, and params how many inputs it has at most.
const roots, params = 3, 8

// groups finds kits, the largest first.
func (c *coder) groups() []*group {
	free, needed := map[string]bool{}, map[string]bool{}
	byType := map[string][]*item{}
	for _, it := range c.g.order {
		if it.everywhere() {
			free[it.key] = true
			byType[it.typ.Name] = append(byType[it.typ.Name], it)
		}
		for _, need := range it.needs {
			needed[c.g.items[need].typ.Name] = true
		}
	}
	var out []*group
	for {
		var best *group
		size := 0
		for _, typ := range value.Keys(byType) {
			if len(byType[typ]) < roots || !needed[typ] {
				continue
			}
			for _, g := range c.around(byType[typ], free) {
				if n := len(g.names) * len(g.roles); n > size {
					best, size = g, n
				}
			}
		}
		if best == nil {
			return out
		}
		for _, r := range best.roles {
			for _, it := range r.items {
				delete(free, it.key)
			}
		}
		out = append(out, best)
	}
}

// owned says which of some roots each item stands around: the only one that it needs, also over others.
type owned struct {
	c     *coder
	roots map[string]bool
	free  map[string]bool
	of    map[string]string // by key: the root's key, "" for none
}

// several stands for more than one root.
const several = " "

func (o *owned) root(key string) string {
	if root, known := o.of[key]; known {
		return root
	}
	if o.roots[key] {
		o.of[key] = key
		return key
	}
	o.of[key] = several // for a circle
	root := ""
	for _, need := range o.c.g.items[key].needs {
		if of := o.root(need); of != "" {
			if root != "" && root != of {
				of = several
			}
			root = of
		}
	}
	if root != "" && !o.free[key] {
		root = several
	}
	o.of[key] = root
	return root
}

// around finds kits around items of one type.
func (c *coder) around(of []*item, free map[string]bool) []*group {
	o := &owned{c: c, roots: map[string]bool{}, free: free, of: map[string]string{}}
	for _, it := range of {
		if free[it.key] {
			o.roots[it.key] = true
		}
	}
	members := map[string][]*item{}
	for _, it := range c.g.order {
		if root := o.root(it.key); root != "" && root != several {
			members[root] = append(members[root], it)
		}
	}
	byShape := map[string][]*item{} // roots
	for _, it := range of {
		if len(members[it.key]) < 2 || slices.ContainsFunc(it.needs, func(need string) bool { return o.root(need) != "" }) {
			continue
		}
		var shape []string
		for _, m := range members[it.key] {
			shape = append(shape, m.typ.Name)
		}
		k := strings.Join(shape, " ")
		byShape[k] = append(byShape[k], it)
	}
	var out []*group
	for _, k := range value.Keys(byShape) {
		if len(byShape[k]) >= roots {
			if g := c.group(byShape[k], members); g != nil {
				out = append(out, g)
			}
		}
	}
	return out
}

var instanceName = form.Of(`^[a-z][a-z0-9-]*$`)

// group makes a kit of roots with what stands around each; nil where their parts differ too much.
func (c *coder) group(of []*item, members map[string][]*item) *group {
	g := &group{}
	names := affixOf(of)
	for _, it := range of {
		if !instanceName().MatchString(names.core(it)) {
			g.instance = names
		}
	}
	byRole := map[string]*role{}
	seen := map[string]bool{}
	for n, root := range of {
		core := names.core(root)
		called := g.instance.before + core + g.instance.after
		if !instanceName().MatchString(called) || seen[core] ||
			slices.ContainsFunc(c.g.found, func(f Found) bool { return f.Instances[called] }) {
			return nil
		}
		seen[core] = true
		g.names = append(g.names, core)
		for _, it := range members[root.key] {
			name := roleName(it, core)
			k := it.typ.Name + " " + name
			if n == 0 && byRole[k] == nil {
				byRole[k] = &role{as: &item{typ: it.typ, name: name}}
				g.roles = append(g.roles, byRole[k])
			}
			r := byRole[k]
			if r == nil || len(r.items) != n {
				return nil // of another shape
			}
			r.items = append(r.items, it)
			if it == root && g.name == "" {
				g.name = name
			}
		}
	}
	if !c.arrange(g) || !c.parameters(g) {
		return nil
	}
	return g
}

// roleName is an item's name without what its instance is called.
func roleName(it *item, instance string) string {
	const marks = "-._/"
	at := strings.Index(it.name, instance)
	end := at + len(instance)
	if at < 0 || at > 0 && !strings.ContainsAny(it.name[at-1:at], marks) || end < len(it.name) && !strings.ContainsAny(it.name[end:end+1], marks) {
		return it.typ.Name
	}
	return cmp.Or(strings.Trim(strings.Trim(it.name[:at], marks)+"-"+strings.Trim(it.name[end:], marks), marks), it.typ.Name)
}

// arrange puts what is needed first, names what others refer to, and reports whether the instances are
// alike in that.
func (c *coder) arrange(g *group) bool {
	in := map[string]int{} // by key: the role
	at := map[string]int{} // by key: the instance
	for i, r := range g.roles {
		for n, it := range r.items {
			in[it.key], at[it.key] = i, n
		}
	}
	needs := make([]map[int]bool, len(g.roles))
	used := make([]bool, len(g.roles))
	for i, r := range g.roles {
		needs[i] = map[int]bool{}
		for n, it := range r.items {
			for _, need := range it.needs {
				j, inside := in[need]
				if !inside {
					continue
				}
				if at[need] != n || n > 0 && !needs[i][j] {
					return false
				}
				needs[i][j], used[j] = true, true
			}
		}
	}
	for _, it := range c.g.order {
		if _, member := in[it.key]; member {
			continue
		}
		for _, need := range it.needs {
			if j, inside := in[need]; inside {
				used[j], g.roles[j].out = true, true
			}
		}
	}
	var sorted []*role
	done := make([]bool, len(g.roles))
	taken := map[string]bool{}
	for len(sorted) < len(g.roles) {
		before := len(sorted)
		for i, r := range g.roles {
			ready := !done[i]
			for j := range needs[i] {
				ready = ready && done[j]
			}
			if !ready {
				continue
			}
			done[i] = true
			sorted = append(sorted, r)
			if used[i] {
				if r.variable = variable(r.as.name); taken[r.variable] {
					r.variable += "_" + variable(r.as.typ.Name)
				}
				taken[r.variable] = true
			}
		}
		if len(sorted) == before {
			return false
		}
	}
	g.roles = sorted
	return true
}

// parameters finds what each role is declared with: what all instances share, what follows from their
// names, and what is an input.
func (c *coder) parameters(g *group) bool {
	local := map[string]string{}
	for _, r := range g.roles {
		for _, it := range r.items {
			local[it.key] = r.variable
		}
	}
	for _, r := range g.roles {
		r.as.attrs = map[string]any{}
		for _, a := range r.as.typ.Attributes {
			cells := make([]any, len(r.items))
			for n, it := range r.items {
				v := it.attrs[a.Name]
				if a.Name == "name" && r.as.typ.NamedByPattern() {
					v = c.instanceName(it, g.called(n)+"-"+r.as.name)
				}
				cells[n] = replaced(v, func(leaf any) any { return inKit(leaf, local) })
			}
			first := canonical(cells[0])
			if !slices.ContainsFunc(cells, func(v any) bool { return canonical(v) != first }) {
				if cells[0] != nil {
					r.as.attrs[a.Name] = cells[0]
				}
				continue
			}
			if by := byInstance(cells, g.names); by != "" {
				r.as.attrs[a.Name], g.named = verbatim{by}, true
				continue
			}
			p := &param{role: r, attr: a, cells: cells}
			if p.kind = c.kindOfCells(a, cells); p.kind == "" {
				return false
			}
			g.inputs = append(g.inputs, p)
		}
	}
	if len(g.inputs) > params {
		return false
	}
	for _, p := range g.inputs {
		p.name = variable(p.attr.Name)
		if p.name == "name" || p.name == "care" || p.name == "drivers" ||
			slices.ContainsFunc(g.inputs, func(q *param) bool { return q != p && q.attr.Name == p.attr.Name }) {
			p.name = variable(p.role.as.name + "_" + p.attr.Name)
		}
		p.role.as.attrs[p.attr.Name] = verbatim{p.name}
	}
	return true
}

// instanceName is what an item's name is given as in an instance: nil where the estate's pattern makes it.
func (c *coder) instanceName(it *item, name string) any {
	if c.g.namedByPattern(it, name) {
		return nil
	}
	is := make([]any, len(it.at))
	for i, t := range it.at {
		is[i] = t.Attributes["name"]
	}
	if same := c.g.templates(it, is); same != nil {
		return same
	}
	return is[0]
}

// inKit is a leaf as the code of a kit writes it.
func inKit(leaf any, local map[string]string) any {
	switch x := leaf.(type) {
	case toItem:
		if v, inside := local[x.key]; inside && x.output == "" {
			return verbatim{v}
		} else if inside {
			return verbatim{v + "." + declare.Identifier(x.output)}
		}
	case textOf:
		if v, inside := local[x.key]; inside {
			return verbatim{quoted(x.format) + " % " + v + "." + declare.Identifier(x.id)}
		}
	}
	return leaf
}

// byInstance is code that gives each value from the instance's name; "" where none does.
func byInstance(cells []any, instances []string) string {
	items := make([]*item, len(cells))
	for i, v := range cells {
		items[i] = &item{name: instances[i], attrs: map[string]any{"": v}}
	}
	return byName(items, affix{}, "")
}

// kindOfCells is the kind of an input that takes some values; "" where there is none that takes all.
func (c *coder) kindOfCells(a *schema.Attribute, cells []any) string {
	handles, others, wrong := 0, 0, false
	for _, v := range cells {
		if v == nil {
			continue
		}
		leaves(v, func(leaf any) {
			switch x := leaf.(type) {
			case toItem:
				if x.output == "" {
					handles++
					return
				}
			case toOther, verbatim, loaded:
				wrong = true
			}
			others++
		})
	}
	switch {
	case wrong, handles > 0 && (others > 0 || a.Refers == ""):
		return ""
	case handles > 0:
		return fmt.Sprintf("kind.handle(%q)", c.g.driver+"."+a.Refers)
	}
	return cmp.Or(strings.TrimPrefix(kindOf(a), ", "), "kind.text")
}

// gatherInputs makes one input, a map by instance, where each instance has one.
func (g *group) gatherInputs(c *coder) {
	for _, p := range g.inputs {
		if !slices.ContainsFunc(p.cells, func(v any) bool { _, is := v.(asInput); return !is }) {
			p.gives = c.mapInput(p.role.as.name+"_"+p.attr.Name, p.attr, g.names, p.cells)
		}
	}
}

// kit writes a kit and its instances.
func (c *coder) kit(g *group) {
	name := c.variable(g.name + "_kit")
	var takes, mayTake, kinds, gives, columns []string
	if g.named {
		takes, kinds, gives = []string{"name"}, []string{`"name": kind.text`}, []string{"name = name"}
	}
	for _, p := range g.inputs {
		if slices.Contains(p.cells, nil) {
			mayTake = append(mayTake, p.name+" = None")
		} else {
			takes = append(takes, p.name)
		}
		kinds = append(kinds, quoted(p.name)+": "+p.kind)
		if p.gives != "" {
			gives = append(gives, p.name+" = "+p.gives+"[name]")
			continue
		}
		gives = append(gives, p.name+" = "+c.column(p.name))
		columns = append(columns, p.name)
	}
	fmt.Fprintf(&c.b, "def _%s(%s):\n", name, strings.Join(append(takes, mayTake...), ", "))
	var returns []string
	for _, r := range g.roles {
		before := ""
		if r.variable != "" {
			before = r.variable + " = "
		}
		if r.out {
			returns = append(returns, r.variable+" = "+r.variable)
		}
		c.b.WriteString("    " + before + c.call(c.g.driver+"."+declare.Identifier(r.as.typ.Name), quoted(r.as.name), r.as, nil,
			"    ") + "\n")
	}
	if returns != nil {
		fmt.Fprintf(&c.b, "    return struct(%s)\n", strings.Join(returns, ", "))
	}
	fmt.Fprintf(&c.b, "\n%s = kit(\n    _%s,\n", name, name)
	if kinds != nil {
		fmt.Fprintf(&c.b, "    inputs = {\n        %s,\n    },\n", strings.Join(kinds, ",\n        "))
	}
	fmt.Fprintf(&c.b, "    help = %s,\n)\n\n", quoted(strings.Join(g.parts(), ", ")))

	u := &unit{columns: columns}
	for n, name := range g.names {
		it := &item{name: name, attrs: map[string]any{}}
		for _, p := range g.inputs {
			it.attrs[p.name] = p.cells[n]
		}
		u.items = append(u.items, it)
	}
	call := name + "(" + strings.Join(append([]string{g.instance.around()}, gives...), ", ") + ")"
	if returns == nil {
		fmt.Fprintf(&c.b, "for %s in %s:\n    %s\n", c.over(u), c.table(u, ""), call)
		return
	}
	all := c.variable(g.name + "_all")
	fmt.Fprintf(&c.b, "%s = {\n    name: %s\n    for %s in %s\n}\n", all, call, c.over(u), c.table(u, "    "))
	for _, r := range g.roles {
		for n, it := range r.items {
			c.refer[it.key] = all + "[" + quoted(g.names[n]) + "]." + r.variable
		}
	}
}

// called is what an instance is called.
func (g *group) called(n int) string { return g.instance.before + g.names[n] + g.instance.after }

// parts are the names of what stands in each instance.
func (g *group) parts() []string {
	var out []string
	for _, r := range g.roles {
		out = append(out, r.as.name)
	}
	return out
}

// offer says what a kit would hold.
func (g *group) offer() string {
	names := g.names
	if len(names) > 4 {
		names = append(slices.Clone(names[:3]), fmt.Sprintf("%d more", len(names)-3))
	}
	return strings.Join(names, ", ") + " have the same parts: " + strings.Join(g.parts(), ", ")
}
