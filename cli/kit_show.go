package cli

import (
	"context"

	"kasbah/core/declare"
	"kasbah/kits"
	"kasbah/render"
)

func kitShowCommand() *command {
	return &command{
		Name: "kit show", Short: "show a kit: its inputs with defaults and limits, and its versions", Args: "NAME",
		Estate:   true,
		Long:     "Shows the functions of a kit with their inputs, and which versions its repository has.",
		Examples: [2]string{"kasbah kit show beam", "kasbah kit show beam -json"},
		Takes:    exactly(1, "one kit"),
		Run: func(ctx context.Context, a *app, args []string) error {
			p, o, err := a.kitOptions(ctx)
			if err != nil {
				return err
			}
			k, err := kitNamed(o, args[0])
			if err != nil {
				return err
			}
			opener, err := kits.New(p.Estate.Dir)
			if err != nil {
				return err
			}
			src := p.Estate.Kits(p.Env)[k.Name]
			d := newKitDoc(k, src, opener.Pins)
			functions, problems := declare.DescribeKit(ctx, o, k)
			if problems.Wrong() > 0 {
				return problems
			}
			for _, f := range functions {
				d.Functions = append(d.Functions, render.NewFunctionDoc(f))
			}
			if src.Git != "" {
				if d.Versions, err = opener.Versions(ctx, src); err != nil {
					a.say("its versions cannot be read: %v", err)
				}
			}
			if a.json {
				return a.document(render.KitsDocument{Format: "kasbah.kits/1", Env: p.Env, Kits: []render.KitDoc{d}})
			}
			a.out().Kit(d)
			return nil
		},
	}
}
