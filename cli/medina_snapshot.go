package cli

import (
	"bytes"
	"context"
	"flag"
	"io"
	"os"

	"kasbah/core/disk"
)

func medinaSnapshotCommand() *command {
	return medinaCommand("snapshot", "keep all that the simulated cloud holds in a file", "FILE", [2]string{"kasbah medina snapshot before.medina", "kasbah medina reset -from before.medina -yes"}, 1, 1, nil,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			var body bytes.Buffer
			if err := h.at.Snapshot(ctx, &body); err != nil {
				return err
			}
			if err := disk.Replace(a.path(args[0]), body.Bytes(), 0o600); err != nil {
				return err
			}
			a.say("wrote %s", args[0])
			return nil
		})
}

func medinaResetCommand() *command {
	var from string
	return medinaCommand("reset", "empty the simulated cloud, or go back to a snapshot", "", [2]string{"kasbah medina reset -yes", "kasbah medina reset -from before.medina"}, 0, 0,
		func(fs *flag.FlagSet) {
			fs.StringVar(&from, "from", "", "a `file` that medina snapshot wrote")
		},
		func(ctx context.Context, a *app, h *hand, _ []string) error {
			var snapshot io.Reader
			if from != "" {
				f, err := os.Open(a.path(from))
				if err != nil {
					return err
				}
				defer f.Close()
				snapshot = f
			}
			if err := a.consentTo(ctx, "This takes away all that Medina holds. Go on?"); err != nil {
				return err
			}
			if err := h.at.Reset(ctx, snapshot); err != nil {
				return err
			}
			a.say("%s", map[bool]string{true: "Medina is empty", false: "Medina holds what " + from + " does"}[from == ""])
			return nil
		})
}
