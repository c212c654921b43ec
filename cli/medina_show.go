package cli

import (
	"context"
)

func medinaShowCommand() *command {
	return medinaCommand(command{
		Name: "medina show", Short: "show one thing of the simulated cloud", Args: "TYPE ID",
		Long:     "Shows all attributes of a thing, by its id or its name.",
		Examples: [2]string{"kasbah medina show machine mac-0001", "kasbah medina show machine gauge-sallow"},
	}, 2, 2,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, l, err := h.Named(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return a.showThing(t.Name, l)
		})
}
