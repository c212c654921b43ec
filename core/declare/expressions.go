package declare

import (
	"go.starlark.net/syntax"

	"kasbah/core/value"
)

// pristine is an index of the same files that keeps whole expressions. It
// parses them again: the evaluation has rewritten the first trees.
func (ix *index) pristine() *index {
	out := newIndex()
	out.whole = true
	out.estate, out.pattern, out.names, out.drivers, out.known = ix.estate, ix.pattern, ix.names, ix.drivers, ix.known
	out.defs, out.variables, out.kitCalls = map[string]map[string]*syntax.DefStmt{}, map[string][]loop{}, map[string][]*syntax.CallExpr{}
	for path, body := range ix.bodies {
		f, err := fileOptions.Parse(path, body, 0)
		if err == nil { // it was parsed before
			out.add(path, f, body, func(module string) string { return ix.modules[path][module] })
		}
	}
	return out
}

// function finds the def of a name that a file knows.
func (ix *index) function(file, name string) *syntax.DefStmt {
	for range 10 { // a chain of loads
		if def := ix.defs[file][name]; def != nil {
			return def
		}
		l, ok := ix.loads[file][name]
		if !ok {
			break
		}
		file, name = l.file, l.name
	}
	return nil
}

// kitDefault finds the default that kit(function, inputs = …) states for an
// input.
func (ix *index) kitDefault(file, function, input string) (syntax.Expr, string) {
	for _, c := range ix.kitCalls[file] {
		if id, ok := c.Args[0].(*syntax.Ident); !ok || id.Name != function {
			continue
		}
		for _, a := range c.Args[1:] {
			b, ok := a.(*syntax.BinaryExpr)
			if !ok || b.Op != syntax.EQ || b.X.(*syntax.Ident).Name != "inputs" {
				continue
			}
			kind, rest := inside(b.Y, value.Path{value.Key(input)})
			if def, left := inside(kind, value.Path{value.Key("default")}); len(rest) == 0 && len(left) == 0 {
				return def, file
			}
		}
	}
	return nil, ""
}
