package cli

import (
	"context"

	"kasbah/medina"
)

func medinaCreateCommand() *command {
	return medinaCommand(command{
		Name: "medina create", Short: "make a thing in the simulated cloud by hand", Args: "TYPE key=value…",
		Long: "Makes a thing past the declarations, as a person in a console would.",
		Examples: [2]string{"kasbah medina create network range=10.50.0.0/16 name=spare",
			"kasbah medina create bucket name=found-things -as keeper-2"},
	}, 1, -1,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			t, err := h.Type(args[0])
			if err != nil {
				return err
			}
			inputs, err := medina.Pairs(t, args[1:], nil)
			if err != nil {
				return err
			}
			l, err := h.Driver.Create(ctx, t.Name, inputs, "")
			if err != nil {
				return err
			}
			return a.showThing(t.Name, l)
		})
}
