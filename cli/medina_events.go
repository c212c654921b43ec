package cli

import (
	"context"
	"flag"

	"kasbah/medina"
	"kasbah/render"
)

func medinaEventsCommand() *command {
	var last int
	return byHand(command{
		Name: "medina events", Short: "show who changed what in the simulated cloud, and when", Args: "[ID]",
		Long:     "Lists changes with their person and time, also those made by hand.",
		Examples: [2]string{"kasbah medina events -last 20", "kasbah medina events mac-0001 -json"},
		Flags:    func(fs *flag.FlagSet) { fs.IntVar(&last, "last", 0, "only the newest `events`") },
		Takes:    atMost(1, "one id"),
	}, func(ctx context.Context, a *app, h *hand, args []string) error {
		d, err := h.Events(ctx, firstOf(args), last)
		if err != nil {
			return err
		}
		return show(a, d, func(o *render.Out, d *medina.Items) { o.Events(d.Items) })
	})
}
