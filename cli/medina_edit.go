package cli

import (
	"context"
)

func medinaEditCommand() *command {
	return byHand(command{
		Name: "medina edit", Short: "edit a thing of the simulated cloud by hand", Args: "TYPE ID key=value…",
		Long: "Changes a thing past the declarations, to try out drift. An empty value removes an " +
			"attribute.",
		Examples: [2]string{"kasbah medina edit machine gauge-sallow size=large -as keeper-2",
			"kasbah medina edit network net-0001 tags.owner=harbour"},
		Takes: atLeast(3, "a type, an id or a name, and key=value"),
	}, func(ctx context.Context, a *app, h *hand, args []string) error {
		return a.showThing(h.Edit(ctx, args[0], args[1], args[2:]))
	})
}
