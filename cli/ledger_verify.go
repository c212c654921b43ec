package cli

import (
	"context"
	"flag"

	"github.com/oklog/ulid/v2"

	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/render"
	"kasbah/session"
)

func ledgerVerifyCommand() *command {
	var accept int64
	var why string
	return &command{
		Name: "ledger verify", Short: "check the ledger: every entry, hash and checkpoint", Args: "[WARD…]",
		Estate: true,
		Long: "Reads every entry and checks hashes, order, signatures and checkpoints. -accept notes that a " +
			"ledger was restored from a backup on purpose.",
		Examples: [2]string{"kasbah ledger verify", "kasbah ledger verify shore -accept 41 -why \"restored from " +
			"Monday's backup\""},
		Flags: func(fs *flag.FlagSet) {
			fs.Int64Var(&accept, "accept", -1, "note that the ledger was lost or restored and ends at this `entry`; "+
				"0 when nothing is left")
			fs.StringVar(&why, "why", "", "the `reason`, for the history")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			p, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			if accept >= 0 {
				if err := a.acceptEnd(ctx, p, accept, why); err != nil {
					return err
				}
			}
			doc := map[string]*ledger.Verified{}
			for _, w := range p.Wards {
				v, err := p.Ledgers[w].Verify(ctx)
				if err != nil {
					return err
				}
				doc[w] = v
				if a.json {
					continue
				}
				a.out().Printf("%s, %s: whole. %d entries, %s, %s.\n", w, p.Env, v.Entries, render.Count(v.Checkpoints,
					"checkpoint"), render.Count(v.Records, "resource"))
				for _, n := range v.Notes {
					a.out().Printf("  ignored: %s\n", render.Clean(n))
				}
			}
			if a.json {
				return a.document(struct {
					Format string                      `json:"format"`
					Wards  map[string]*ledger.Verified `json:"wards"`
				}{"kasbah.verify/1", doc})
			}
			return nil
		},
	}
}

// acceptEnd notes that a ledger was restored from a backup on purpose.
func (a *app) acceptEnd(ctx context.Context, p *session.Session, at int64, why string) error {
	switch {
	case len(p.Wards) != 1:
		return problem.Usage("entries count from 1 in each ward: say which ward's ledger was restored")
	case why == "":
		return problem.Usage("-accept needs a reason: -why \"…\"")
	}
	if err := p.Ledgers[p.Wards[0]].Accept(ctx, at, ledger.BeginOptions{ID: ulid.Make().String(), Command: a.typed,
		Reason: why}); err != nil {
		return err
	}
	if !a.json {
		a.out().Printf("%s, %s: entry %d counts as its end before now.\n", p.Wards[0], p.Env, at)
	}
	return nil
}
