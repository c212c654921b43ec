package cli

import (
	"context"
	"errors"
	"time"

	"kasbah/core/ledger"
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
			p, states, err := a.openStates(ctx, args)
			var wrong *problem.UsageError
			if errors.As(err, &wrong) && len(args) > 0 {
				if n := nearest.To(args[0], []string{"break", "recover"}); n != "" {
					wrong.Hint = "did you mean `kasbah lock " + n + "`?"
				}
			}
			if err != nil {
				return err
			}
			d := render.LockDocument{Format: "kasbah.lock/1", Holders: []ledger.Holder{}}
			rows := [][]string{render.HolderHead}
			for _, w := range p.Wards {
				for _, r := range states[w].Holders() {
					h := ledger.HolderOf(w, r)
					d.Holders = append(d.Holders, h)
					rows = append(rows, render.HolderRow(h, time.Now()))
				}
			}
			if a.json {
				return a.document(d)
			}
			if len(rows) == 1 {
				a.out().Printf("No run holds a lock in %s.\n", p.Env)
			} else {
				a.out().Table(rows, a.out().HeadGrey)
			}
			for _, w := range p.Wards {
				for _, in := range states[w].Unresolved() {
					a.out().Printf("%s: the %s of run %s has no result; the next enact finds out, or `kasbah lock "+
						"recover %s`\n", in.Intent.Address, in.Intent.Call, ledger.ShortRun(in.Run),
						ledger.ShortRun(in.Run))
				}
			}
			return nil
		},
	}
}
