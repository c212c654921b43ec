package cli

import (
	"context"
	"flag"

	"kasbah/render"
	"kasbah/session"
)

func ledgerCompareCommand() *command {
	var ward string
	return &command{
		Name: "ledger compare", Short: "compare what is recorded at two moments or in two environments", Args: "A [B]",
		Estate:   true,
		Long:     "Compares an entry with now, two entries of a ward, or two environments.",
		Examples: [2]string{"kasbah ledger compare 14 -ward shore", "kasbah ledger compare trial live"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&ward, "ward", "", "only this `ward`; needed with entries when there are several")
		},
		Takes: between(1, 2, "one entry (then and now), two entries, or two environments"),
		Run: func(ctx context.Context, a *app, args []string) error {
			d, err := session.Compare(ctx, a.config(a.env, wardsOf(ward)), args, a.openWith)
			if err != nil {
				return err
			}
			return show(a, d, (*render.Out).Compare)
		},
	}
}
