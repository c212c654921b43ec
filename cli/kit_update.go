package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/exit"
	"kasbah/kits"
	"kasbah/session"
)

func kitUpdateCommand() *command {
	var to string
	var f proposeFlags
	return &command{
		Name: "kit update", Short: "take another version of a kit, or pin it, after showing what would change",
		Args: "NAME", Estate: true,
		Long: "Shows what would change in each environment with the newer version, asks, and then writes " +
			"the tag and the pin.",
		Examples: [2]string{"kasbah kit update beam", "kasbah kit update beam -to v1.3.0 -yes"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&to, "to", "", "this `tag`; the newest version when left out")
			fs.BoolVar(&f.Offline, "offline", false, "compare with the ledger alone")
			fs.BoolVar(&f.full, "full", false, "list every action, even identical ones")
		},
		Takes: exactly(1, "one kit"),
		Run: func(ctx context.Context, a *app, args []string) error {
			e, err := session.FindEstate(a.dir)
			if err != nil {
				return err
			}
			u, err := kits.FindUpdate(ctx, e, a.env, args[0], to)
			if err != nil {
				return err
			}
			switch {
			case u.From.InEstate():
				a.out().Printf("%s is a folder of the estate, %s: it is kept with the estate and needs no pin.\n", args[0],
					u.From.Folder)
				return nil
			case u.Newest:
				a.out().Printf("%s %s is the newest, and pinned.\n", args[0], u.Pin.Version)
				return nil
			}
			return a.updateKit(ctx, u, f)
		},
	}
}

// updateKit shows what an update would change in each environment, asks, and writes it.
func (a *app) updateKit(ctx context.Context, u *kits.Update, f proposeFlags) error {
	a.out().KitUpdate(u.Pin, u.Pinned, u.From, u.To)
	var wrong problem.List
	for i, env := range u.Envs {
		s, err := a.openWith(ctx, a.config(env, nil))
		if err != nil {
			return err
		}
		p, err := s.PreviewKit(ctx, u, f.Request)
		if err != nil {
			return err
		}
		wrong = append(wrong, p.Problems...)
		if i == 0 {
			a.out().InputChanges(p.Inputs)
		}
		a.out().KitPreview(p.Before, p.After, f.full)
	}
	if wrong.Wrong() > 0 {
		a.errs().Problems(wrong)
		a.say("Nothing is written: with this version the declarations are wrong.")
		return exit.Error(exit.Failed)
	}
	if err := a.flush(); err != nil {
		return err
	}
	if err := a.agree(ctx, fmt.Sprintf("Write %s and the pin of %s?", estate.File, u.Pin.Name)); err != nil {
		return err
	}
	wrote, err := u.Write()
	if err != nil {
		return err
	}
	a.out().Printf("wrote %s\n", strings.Join(wrote, ", "))
	return nil
}
