package cli

import (
	"context"
	"flag"
	"strconv"

	"kasbah/core/chart"
	"kasbah/core/graph"
	"kasbah/core/problem"
	"kasbah/flags"
	"kasbah/render"
	"kasbah/session"
)

func mapCommand() *command {
	form, depth, at := "tree", "", string(chart.Declared)
	var from, to flags.List
	o := session.Charting{}
	return &command{
		Name: "map", Short: "draw the graph of resources, as declared, recorded, live or proposed", Args: "[WARD…]", Estate: true,
		Long: "Shows which resource needs which. Nothing has to exist yet: -at says whether what is declared is shown, what the " +
			"ledgers record, what has drifted, or what would be done. -from and -to limit the graph to one side of a resource, " +
			"or to what lies between two. -form html writes one page to search and explore, which needs no network.",
		Examples: [2]string{"kasbah map", "kasbah map -at proposed -form html > map.html"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var(flags.Choice(&form, "tree", "svg", "html", "dot", "mermaid", "json"), "form", "the `form`: tree, svg, html, dot, mermaid or json")
			fs.Var(flags.Choice(&at, chart.Ats()...), "at", "what is shown, as a `word`: declared, recorded, live or proposed")
			fs.Var(flags.Choice(&depth, render.Depths()...), "depth", "with -form svg: how `much` is drawn: ward, kit or resource; what fits, when left out")
			fs.BoolFunc("show-inputs", "with -form svg or html: show inputs and published values; left out, they are shown up to 200 resources", func(s string) error {
				yes, err := strconv.ParseBool(s)
				o.Inputs = &yes
				return err
			})
			fs.Var(&from, "from", "only this `address` and what needs it")
			fs.Var(&to, "to", "only this `address` and what it needs")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if a.json {
				form = "json"
			}
			o.At, o.Facts, o.Around = chart.At(at), form == "html", form == "html" || form == "svg"
			switch {
			case depth != "" && form != "svg":
				return problem.Usage("-depth goes with -form svg")
			case o.Inputs != nil && !o.Around:
				return problem.Usage("-show-inputs goes with -form svg or html")
			}
			config := a.config(a.env, args)
			config.Lenient = o.At == chart.Live // a driver that cannot be opened hides nothing of the others
			s, err := a.openWith(ctx, config)
			if err != nil {
				return err
			}
			c, remarks, err := s.Chart(ctx, o)
			if err != nil {
				return err
			}
			a.tellRemarks(remarks)
			m := render.NewMap(c)
			if len(from)+len(to) > 0 {
				in, err := graph.Select(m.Graph, from, to)
				if err != nil {
					return err
				}
				c.Keep(in)
				m = render.NewMap(c)
			}
			return a.writeMap(m, form, render.Depth(depth))
		},
	}
}

func (a *app) writeMap(m render.Map, form string, depth render.Depth) (err error) {
	switch form {
	case "json":
		return a.document(m.Document())
	case "svg":
		_, err = a.buffer.Write(render.SVG(m.Draw(), render.SVGOptions{Depth: depth}))
	case "html":
		var body []byte
		if body, err = render.MapPage(m.Draw()); err == nil {
			_, err = a.buffer.Write(body)
		}
	case "dot":
		m.DOT(a.buffer)
	case "mermaid":
		m.Mermaid(a.buffer)
	default:
		a.out().Tree(m)
	}
	return err
}
