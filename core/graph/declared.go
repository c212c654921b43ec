package graph

import (
	"strings"

	"kasbah/core/declare"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// OfDeclared builds the graph of what is declared, its nodes in the order of
// d.Resources, and reports cycles.
func OfDeclared(d *declare.Declared) (*Graph, problem.List) {
	names := make([]string, len(d.Resources))
	for i, r := range d.Resources {
		names[i] = r.Full()
	}
	g := NewFrom(names, func(n int, add func(to, why string)) {
		for _, need := range d.Resources[n].Needs {
			add(need.Address, need.Why)
		}
	})
	var problems problem.List
	for _, c := range g.Cycles() {
		first, _ := g.Node(c[0])
		r := d.Resources[first]
		pos, via := r.Position()
		short := make([]string, len(c))
		for i, name := range c {
			short[i] = name
			if w, rest := value.SplitWard(name); w == r.Ward {
				short[i] = rest
			}
		}
		p := problem.At(pos, "needs itself: %s", strings.Join(short, " needs "))
		p.Ward, p.Address, p.Via = r.Ward, r.Address, via
		p.Hint = "take one of these needs away"
		problems = append(problems, p)
	}
	return g, problems
}
