package cli

import (
	"context"

	"kasbah/core/declare"
	"kasbah/render"
)

func kitShowCommand() *command {
	return &command{
		Name: "kit show", Short: "show a kit: its inputs with defaults and limits, and its versions", Args: "NAME",
		Estate:   true,
		Long:     "Shows the functions of a kit with their inputs, and which versions its repository has.",
		Examples: [2]string{"kasbah kit show beam", "kasbah kit show beam -json"},
		Takes:    exactly(1, "one kit"),
		Run: func(ctx context.Context, a *app, args []string) error {
			k, err := a.openKits(ctx)
			if err != nil {
				return err
			}
			d, err := k.Describe(ctx, args[0])
			if err != nil {
				return err
			}
			return show(a, d, func(o *render.Out, d declare.KitList) { o.Kit(d.Kits[0]) })
		},
	}
}
