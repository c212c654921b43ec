package cli

import (
	"context"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/medina"
)

func medinaEditCommand() *command {
	return medinaCommand(command{
		Name: "medina edit", Short: "edit a thing of the simulated cloud by hand", Args: "TYPE ID key=value…",
		Long: "Changes a thing past the declarations, to try out drift. An empty value removes an " +
			"attribute.",
		Examples: [2]string{"kasbah medina edit machine gauge-sallow size=large -as keeper-2",
			"kasbah medina edit network net-0001 tags.owner=harbour"},
	}, 3, -1,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, l, err := h.Named(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			to, err := medina.Pairs(t, args[2:], l.Attributes)
			if err != nil {
				return err
			}
			from := value.Map{}
			for k, v := range to {
				if old, ok := l.Attributes[k]; ok {
					from[k] = old
				}
				if v == nil {
					delete(to, k)
				}
			}
			if l, err = h.Driver.Update(ctx, t.Name, l.ID, driver.Change{From: from, To: to}, l.Tag, ""); err != nil {
				return err
			}
			return a.showThing(t.Name, l)
		})
}
