package cli

import (
	"context"

	"kasbah/core/value"
)

func medinaDeleteCommand() *command {
	return medinaCommand(command{
		Name: "medina delete", Short: "delete a thing of the simulated cloud by hand", Args: "TYPE ID",
		Long: "Deletes a thing past the declarations, to try out drift.",
		Examples: [2]string{"kasbah medina delete bucket found-things",
			"kasbah medina delete machine mac-0004 -as keeper-2"},
	}, 2, 2,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, l, err := h.Named(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			if err := h.Driver.Delete(ctx, t.Name, l.ID, "", ""); err != nil {
				return err
			}
			a.say("deleted %s %s", t.Name, l.ID)
			if a.json {
				return a.document(itemsDocument{Format: "kasbah.medina/1", Items: []value.Attributes{item(t.Name, l)}})
			}
			return nil
		})
}
