package cli

import (
	"context"
	"flag"
	"io"
	"os"
)

func medinaResetCommand() *command {
	var from string
	return byHand(command{
		Name: "medina reset", Short: "empty the simulated cloud, or go back to a snapshot", Args: "",
		Long:     "Deletes everything in the simulated cloud, or goes back to a snapshot.",
		Examples: [2]string{"kasbah medina reset -yes", "kasbah medina reset -from before.medina"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&from, "from", "", "a `file` that medina snapshot wrote")
		},
		Takes: noArguments(),
	}, func(ctx context.Context, a *app, h *hand, _ []string) error {
		var snapshot io.Reader
		result := "Medina is empty"
		if from != "" {
			f, err := os.Open(a.path(from))
			if err != nil {
				return err
			}
			defer f.Close()
			snapshot, result = f, "Medina holds what "+from+" does"
		}
		if err := a.consentTo(ctx, "This takes away all that Medina holds. Go on?"); err != nil {
			return err
		}
		if err := h.at.Reset(ctx, snapshot); err != nil {
			return err
		}
		a.say("%s", result)
		return nil
	})
}
