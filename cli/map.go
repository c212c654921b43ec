package cli

import (
	"context"
	"flag"
	"kasbah/cli/flags"

	"kasbah/core/graph"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/render"
)

func mapCommand() *command {
	var form string
	var from, to flags.List
	return &command{
		Name: "map", Short: "draw the graph of what is declared", Args: "[WARD…]", Estate: true,
		Long: "Shows which resource needs which. Nothing has to exist yet. -from and -to limit the graph to " +
			"one side of a resource, or to what lies between two.",
		Examples: [2]string{"kasbah map", "kasbah map -form dot -from medina.network/coast"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&form, "form", "tree", "the `form`: tree, dot, mermaid or json")
			fs.Var(&from, "from", "only this `address` and what needs it")
			fs.Var(&to, "to", "only this `address` and what it needs")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if a.json {
				form = "json"
			}
			switch form {
			case "tree", "dot", "mermaid", "json":
			case "svg", "html":
				return problem.Usage("this version of kasbah does not draw %s yet; there is tree, dot, mermaid and json", form)
			default:
				return &problem.UsageError{Message: "-form is " + form + ", and must be tree, dot, mermaid or json",
					Hint: nearest.Hint(form, []string{"tree", "dot", "mermaid", "json"})}
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
