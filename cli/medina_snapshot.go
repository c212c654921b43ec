package cli

import (
	"bytes"
	"context"

	"kasbah/core/disk"
)

func medinaSnapshotCommand() *command {
	return byHand(command{
		Name: "medina snapshot", Short: "keep all that the simulated cloud holds in a file", Args: "FILE",
		Long:     "Writes everything in the simulated cloud to a file; medina reset -from restores it.",
		Examples: [2]string{"kasbah medina snapshot before.medina", "kasbah medina reset -from before.medina -yes"},
		Takes:    exactly(1, "one file to write"),
	}, func(ctx context.Context, a *app, h *hand, args []string) error {
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
