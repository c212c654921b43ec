package cli

import (
	"context"

	"kasbah/render"
)

func kitListCommand() *command {
	return &command{
		Name: "kit list", Short: "list the kits of the estate, and whether they are pinned", Estate: true,
		Long:     "Lists the kits that kasbah.toml names, with their versions and pins.",
		Examples: [2]string{"kasbah kit list", "kasbah kit list -env live -json"},
		Takes:    noArguments(),
		Run: func(ctx context.Context, a *app, _ []string) error {
			k, err := a.openKits(ctx)
			if err != nil {
				return err
			}
			return show(a, k.List(), (*render.Out).Kits)
		},
	}
}
