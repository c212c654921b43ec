package cli

import (
	"context"
)

func medinaShowCommand() *command {
	return byHand(command{
		Name: "medina show", Short: "show one thing of the simulated cloud", Args: "TYPE ID",
		Long:     "Shows all attributes of a thing, by its id or its name.",
		Examples: [2]string{"kasbah medina show machine mac-0001", "kasbah medina show machine gauge-sallow"},
		Takes:    exactly(2, "a type, and an id or a name"),
	}, func(ctx context.Context, a *app, h *hand, args []string) error {
		return a.showThing(h.Show(ctx, args[0], args[1]))
	})
}
