package cli

import (
	"context"
	"flag"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/graph"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/render"
)

func mapCommand() *command {
	var form string
	var from, to listFlag
	return &command{
		name: "map", line: "draw the graph of what is declared", args: "[WARD…]", common: true,
		examples: [2]string{"kasbah map", "kasbah map -form dot -from medina.network/coast"},
		flags: func(fs *flag.FlagSet) {
			fs.StringVar(&form, "form", "tree", "the `form`: tree, dot, mermaid or json")
			fs.Var(&from, "from", "only this `address` and what needs it")
			fs.Var(&to, "to", "only this `address` and what it needs")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if a.json {
				form = "json"
			}
			switch form {
			case "tree", "dot", "mermaid", "json":
			case "svg", "html":
				return problem.Usage("this version of kasbah does not draw %s yet; there is tree, dot, mermaid and json", form)
			default:
				return &problem.UsageError{Message: "-form is " + form + ", and must be tree, dot, mermaid or json", Hint: nearest.Hint(form, []string{"tree", "dot", "mermaid", "json"})}
			}
			p, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			d, g, err := a.declared(ctx, p)
			if err != nil {
				return err
			}
			m := render.Map{Graph: g}
			for _, r := range d.Resources {
				pos, _ := r.Position()
				m.Nodes = append(m.Nodes, render.Node{Ward: r.Ward, Address: r.Address, Type: r.FullType(), Position: pos})
			}
			if m.In, err = selectNodes(d, g, from, to); err != nil {
				return err
			}
			switch form {
			case "json":
				return a.document(m.Document())
			case "dot":
				m.DOT(a.buffer)
			case "mermaid":
				m.Mermaid(a.buffer)
			default:
				a.out().Tree(m)
			}
			return nil
		},
	}
}

// selectNodes marks what lies on the way from some addresses to others.
func selectNodes(d *declare.Declared, g *graph.Graph, from, to []string) ([]bool, error) {
	in := make([]bool, g.Len())
	for i := range in {
		in[i] = true
	}
	limit := func(addresses []string, closure func(...int32) []bool) error {
		if len(addresses) == 0 {
			return nil
		}
		var nodes []int32
		for _, address := range addresses {
			n, err := findNode(d, g, address)
			if err != nil {
				return err
			}
			nodes = append(nodes, n)
		}
		for i, ok := range closure(nodes...) {
			in[i] = in[i] && ok
		}
		return nil
	}
	if err := limit(from, g.Up); err != nil {
		return nil, err
	}
	return in, limit(to, g.Down)
}

// findNode finds a resource by its address, with or without its ward.
func findNode(d *declare.Declared, g *graph.Graph, address string) (int32, error) {
	if n, ok := g.Node(address); ok {
		return n, nil
	}
	var hits, known []string
	for _, r := range d.Resources {
		known = append(known, r.Address)
		if r.Address == address {
			hits = append(hits, r.Full())
		}
	}
	switch len(hits) {
	case 1:
		n, _ := g.Node(hits[0])
		return n, nil
	case 0:
		_, short := value.SplitWard(address)
		return 0, &problem.UsageError{Message: "no resource has the address " + address, Hint: nearest.Hint(short, known)}
	}
	return 0, problem.Usage("%s is in several wards; write one of %s", address, strings.Join(hits, ", "))
}
