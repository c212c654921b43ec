package cli

import (
	"context"
	"flag"

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
		Run: onWards(func(ctx context.Context, a *app, s *session.Session) error {
			if accept >= 0 {
				if err := s.Accept(ctx, accept, a.typed, why); err != nil {
					return err
				}
				a.out().Printf("%s, %s: entry %d counts as its end before now.\n", s.Wards[0], s.Env, accept)
			}
			d, err := s.Verify(ctx)
			return showSoFar(a, d, (*render.Out).Verified, err)
		}),
	}
}
