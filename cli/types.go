package cli

import (
	"context"

	"kasbah/core/nearest"
	"kasbah/render"
)

func typesCommand() *command {
	return &command{
		name: "types", line: "show what each type takes, with an example to copy", args: "[TYPE]", common: true,
		examples: [2]string{"kasbah types", "kasbah types medina.machine"},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) > 1 {
				return usage("types takes one type")
			}
			p, err := a.open(ctx, nil)
			if err != nil {
				return err
			}
			doc := render.TypesDocument{Format: "kasbah.types/1", Types: []render.TypeDoc{}}
			var names []string
			for _, drv := range p.estate.Drivers() {
				c := p.catalogs[drv]
				for _, n := range c.Names() {
					full := drv + "." + n
					names = append(names, full)
					if len(args) == 0 || args[0] == full || args[0] == n {
						doc.Types = append(doc.Types, render.NewTypeDoc(drv, c.Types[n]))
					}
				}
			}
			switch {
			case len(doc.Types) == 0 && len(args) == 1:
				return &usageError{msg: "no driver has the type " + args[0], hint: nearest.Hint(args[0], names)}
			case a.json:
				return a.document(doc)
			case len(args) == 1:
				for i, t := range doc.Types {
					if i > 0 {
						a.out().Printf("\n")
					}
					a.out().Type(t)
				}
			default:
				a.out().Types(doc.Types)
			}
			return nil
		},
	}
}
