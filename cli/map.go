package cli

import (
	"context"
	"flag"
	"kasbah/flags"

	"kasbah/core/graph"
	"kasbah/core/problem"
	"kasbah/render"
)

func mapCommand() *command {
	form, depth := "tree", ""
	var from, to flags.List
	return &command{
		Name: "map", Short: "draw the graph of what is declared", Args: "[WARD…]", Estate: true,
		Long: "Shows which resource needs which. Nothing has to exist yet. -from and -to limit the graph to " +
			"one side of a resource, or to what lies between two.",
		Examples: [2]string{"kasbah map", "kasbah map -form dot -from medina.network/coast"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var(flags.Choice(&form, "tree", "svg", "dot", "mermaid", "json"), "form", "the `form`: tree, svg, dot, mermaid or json")
			fs.Var(flags.Choice(&depth, render.Depths()...), "depth", "with -form svg: how `much` is drawn: ward, kit or resource; what fits, when left out")
			fs.Var(&from, "from", "only this `address` and what needs it")
			fs.Var(&to, "to", "only this `address` and what it needs")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if a.json {
				form = "json"
			}
			if depth != "" && form != "svg" {
				return problem.Usage("-depth goes with -form svg")
			}
			p, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			e, err := p.Evaluate(ctx, p.Others())
			if err != nil {
				return err
			}
			if err := e.Problems.Err(); err != nil {
				return err
			}
			a.tellRemarks(e.Remarks())
			m := render.NewMap(e.Declared, e.Graph)
			if m.In, err = graph.Select(e.Declared, e.Graph, from, to); err != nil {
				return err
			}
			switch form {
			case "json":
				return a.document(m.Document())
			case "svg":
				_, err := a.buffer.Write(m.SVG(p.Estate.Name, render.Depth(depth)))
				return err
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
