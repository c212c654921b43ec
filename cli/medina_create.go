package cli

import (
	"context"
)

func medinaCreateCommand() *command {
	return byHand(command{
		Name: "medina create", Short: "make a thing in the simulated cloud by hand", Args: "TYPE key=value…",
		Long: "Makes a thing past the declarations, as a person in a console would.",
		Examples: [2]string{"kasbah medina create network range=10.50.0.0/16 name=spare",
			"kasbah medina create bucket name=found-things -as keeper-2"},
		Takes: atLeast(1, "a type and its attributes, as key=value"),
	}, func(ctx context.Context, a *app, h *hand, args []string) error {
		return a.showThing(h.Create(ctx, args[0], args[1:]))
	})
}
