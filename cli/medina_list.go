package cli

import (
	"context"

	"kasbah/medina"
	"kasbah/render"
)

func medinaListCommand() *command {
	return byHand(command{
		Name: "medina list", Short: "list what the simulated cloud holds", Args: "[TYPE]",
		Long:     "Lists things as the cloud shows them, also those that Kasbah does not manage.",
		Examples: [2]string{"kasbah medina list", "kasbah medina list machine -json"},
		Takes:    atMost(1, "one type"),
	}, func(ctx context.Context, a *app, h *hand, args []string) error {
		d, err := h.List(ctx, firstOf(args))
		if err != nil {
			return err
		}
		return show(a, d, func(o *render.Out, d *medina.Items) { o.Things(d.Items) })
	})
}
