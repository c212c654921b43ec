package cli

import (
	"context"
	"errors"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/render"
)

func lockCommand() *command {
	return &command{
		Name: "lock", Short: "show who holds which lock", Args: "[WARD…]", Estate: true,
		Long: "Lists the runs that hold locks, with what they lock, how far they are, and whether their " +
			"process still runs on this machine.",
		Examples: [2]string{"kasbah lock", "kasbah lock shore -json"},
		Run: func(ctx context.Context, a *app, args []string) error {
			s, err := a.open(ctx, args)
			var wrong *problem.UsageError
			if errors.As(err, &wrong) && len(args) > 0 {
				if n := nearest.To(args[0], []string{"break", "recover"}); n != "" {
					wrong.Hint = "did you mean `kasbah lock " + n + "`?"
				}
			}
			if err != nil {
				return err
			}
			d, err := s.Holders(ctx)
			if err != nil {
				return err
			}
			return show(a, d, (*render.Out).Holders)
		},
	}
}
