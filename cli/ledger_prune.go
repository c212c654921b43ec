package cli

import (
	"context"
	"flag"
	"strings"

	"kasbah/core/problem"
	"kasbah/render"
	"kasbah/session"
)

func ledgerPruneCommand() *command {
	var keep int64
	var why string
	return &command{
		Name: "ledger prune", Short: "delete the oldest entries for good; recorded resources stay", Args: "[WARD…]",
		Estate: true,
		Long: "Deletes old entries, up to a checkpoint. What is recorded stays; the history before it is " +
			"lost.",
		Examples: [2]string{"kasbah ledger prune -keep 5000", "kasbah ledger prune shore -env trial -keep 0 -yes"},
		Flags: func(fs *flag.FlagSet) {
			fs.Int64Var(&keep, "keep", 1000, "how many of the newest `entries` to keep")
			fs.StringVar(&why, "why", "", "the `reason`, for the history")
		},
		Run: onWards(func(ctx context.Context, a *app, s *session.Session) error {
			if keep < 0 {
				return problem.Usage("-keep is a number of entries")
			}
			if err := a.consentTo(ctx, "Prune the history of "+strings.Join(s.Wards,
				", ")+"? It cannot be had back."); err != nil {
				return err
			}
			d, err := s.Prune(ctx, keep, a.typed, why)
			return showSoFar(a, d, (*render.Out).Pruned, err)
		}),
	}
}
