package cli

import (
	"context"

	"kasbah/core/value"
	"kasbah/kits"
	"kasbah/render"
)

func kitListCommand() *command {
	return &command{
		Name: "kit list", Short: "list the kits of the estate, and whether they are pinned", Estate: true,
		Long:     "Lists the kits that kasbah.toml names, with their versions and pins.",
		Examples: [2]string{"kasbah kit list", "kasbah kit list -env live -json"},
		Takes:    noArguments(),
		Run: func(ctx context.Context, a *app, _ []string) error {
			p, o, err := a.kitOptions(ctx)
			if err != nil {
				return err
			}
			opener, err := kits.New(p.Estate.Dir)
			if err != nil {
				return err
			}
			d := render.KitsDocument{Format: "kasbah.kits/1", Env: p.Env, Kits: []render.KitDoc{}}
			for _, name := range value.Keys(o.Kits) {
				d.Kits = append(d.Kits, newKitDoc(o.Kits[name], p.Estate.Kits(p.Env)[name], opener.Pins))
			}
			if a.json {
				return a.document(d)
			}
			if len(d.Kits) == 0 {
				a.out().Printf("The estate uses no kits: [kits] in kasbah.toml names them.\n")
				return nil
			}
			a.out().Kits(d)
			return nil
		},
	}
}
