package cli

import (
	"context"
	"flag"

	"kasbah/render"
	"kasbah/session"
)

func ledgerResealCommand() *command {
	var why string
	return &command{
		Name: "ledger reseal", Short: "let the recipients in kasbah.toml, and only them, read the ledger from now on",
		Args: "[WARD…]", Estate: true,
		Long: "Applies recipients, writers and the estate's key from kasbah.toml to the ledger. Run it " +
			"after key admit and key dismiss, in each environment.",
		Examples: [2]string{"kasbah ledger reseal -env live -why \"keeper-3 has come\"", "kasbah ledger reseal shore"},
		Flags:    func(fs *flag.FlagSet) { fs.StringVar(&why, "why", "", "the `reason`, for the history") },
		Run: onWards(func(ctx context.Context, a *app, s *session.Session) error {
			d, err := s.Reseal(ctx, a.typed, why)
			return showSoFar(a, d, (*render.Out).Resealed, err)
		}),
	}
}
