package cli

import (
	"context"

	"kasbah/medina"
	"kasbah/render"
)

func medinaDeleteCommand() *command {
	return byHand(command{
		Name: "medina delete", Short: "delete a thing of the simulated cloud by hand", Args: "TYPE ID",
		Long: "Deletes a thing past the declarations, to try out drift.",
		Examples: [2]string{"kasbah medina delete bucket found-things",
			"kasbah medina delete machine mac-0004 -as keeper-2"},
		Takes: exactly(2, "a type, and an id or a name"),
	}, func(ctx context.Context, a *app, h *hand, args []string) error {
		thing, err := h.Delete(ctx, args[0], args[1])
		if err != nil {
			return err
		}
		a.say("deleted %s %s", thing["type"], thing["id"])
		return show(a, medina.NewItems(thing), func(*render.Out, *medina.Items) {})
	})
}
