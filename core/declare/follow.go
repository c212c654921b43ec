package declare

import (
	"fmt"

	"go.starlark.net/syntax"
)

// givenInput is where following a name leads to an input.
type givenInput struct {
	name string
	call *syntax.CallExpr
	file string
}

func (g *givenInput) Error() string { return "it is the input " + g.name }

// follow is the expression that gives a name its value: what was assigned, or what a caller
// handed in. A loop's variable is a *DecidedError.
func (c *changer) follow(s spot, id *syntax.Ident) (spot, error) {
	if s.site != nil {
		for i := len(s.site.over) - 1; i >= 0; i-- {
			if l := s.site.over[i]; l.binds(id.Name) {
				return c.followLoop(s, id, l)
			}
		}
		if in := s.site.in; in != nil {
			for i, p := range in.params {
				if p == id.Name {
					return c.followParameter(s, in, p, i)
				}
			}
			if e := in.locals[id.Name]; e != nil {
				return spot{expr: e, file: s.file, site: s.site, depth: s.depth}, nil
			}
		}
	}
	file, name := s.file, id.Name
	for range 10 { // a chain of loads
		if e := c.index.assigns[file][name]; e != nil {
			return spot{expr: e, file: file}, nil
		}
		l, ok := c.index.loads[file][name]
		if !ok {
			break
		}
		file, name = l.file, l.name
	}
	return spot{}, c.decided(s, nil, "")
}

// followLoop names what a loop runs over: which item gave the value is not known.
func (c *changer) followLoop(s spot, id *syntax.Ident, l loop) (spot, error) {
	return spot{}, c.decided(spot{expr: l.in, file: s.file}, nil, fmt.Sprintf("%s is each of these", id.Name))
}

// followParameter is what a caller handed in, or the default.
func (c *changer) followParameter(s spot, in *function, name string, i int) (spot, error) {
	depth := s.depth + 1
	if depth < len(c.r.trace) {
		caller := c.index.calls[at(c.r.trace[depth].Position)]
		if caller != nil {
			for j, a := range caller.args {
				if a.stars == 0 && (a.name == name || a.name == "" && j == i && !c.r.trace[depth].opens) {
					return spot{a.expr, caller.file, caller, depth}, nil
				}
			}
			if at, ok := c.find(depth, name); ok {
				return at, nil
			}
			if call := c.callAt(at(c.r.trace[depth].Position)); call != nil {
				return spot{}, &leftOut{name, caller.file, call}
			}
		}
	}
	if def := in.values[name]; def != nil {
		return spot{expr: def, file: s.file}, nil
	}
	return spot{}, c.decided(s, nil, "")
}

// leftOut is where following a parameter leads to a call that leaves it out: its default holds.
type leftOut struct {
	name string
	file string
	call *syntax.CallExpr
}

func (l *leftOut) Error() string { return l.name + " is left out, and its default holds" }

// input changes the value of an input: where kasbah.toml gives it, or by giving one there.
func (c *changer) input(s spot, g *givenInput, is any) error {
	for _, ward := range c.why.d.Wards {
		t := ward.Taken[g.name]
		if t == nil || ward.Name != c.r.Ward {
			continue
		}
		in := &InputValue{Ward: ward.Name, Name: g.name, Value: is}
		switch {
		case t.Secret:
			return c.decided(s, nil, "secrets are never written")
		case t.Given.File != "" && t.Given.File != "kasbah.toml":
			return c.decided(s, is, "it is given by "+t.Source)
		case t.Given.File != "":
			in.Given = sectionOf(t.Source)
		case t.Source != "default":
			return c.decided(s, is, "it is given by "+t.Source)
		}
		if in.Given == "" {
			in.Default = c.defaultOf(g, is)
		}
		c.out = append(c.out, Change{Input: in})
		return nil
	}
	return c.decided(s, is, "")
}

// defaultOf is the change of an input's default, where that is written out.
func (c *changer) defaultOf(g *givenInput, is any) []Change {
	for _, a := range g.call.Args {
		key, v, ok := entryOf(a)
		if !ok || key != "default" || !written(v) || c.onDisk(g.file) == "" {
			continue
		}
		from, to := v.Span()
		return []Change{{File: c.onDisk(g.file), From: c.byteOf(from), To: c.byteOf(to), Text: Literal(is)}}
	}
	return nil
}

// sectionOf is the section in a source such as `kasbah.toml [env.trial.inputs]`.
func sectionOf(source string) string {
	const open = "kasbah.toml ["
	if len(source) > len(open) && source[:len(open)] == open {
		return source[len(open) : len(source)-1]
	}
	return ""
}

// explicit hands a value to a call that left it out.
func (c *changer) explicit(l *leftOut, is any) error {
	return c.insert(l.file, l.call.Args, l.call.Lparen, l.call.Rparen, l.name, l.name+" = "+Literal(is))
}
