package cli

import (
	"context"
	"flag"

	"kasbah/core/propose"
	"kasbah/flags"
	"kasbah/render"
	"kasbah/session"
)

func costCommand() *command {
	var f session.Request
	return &command{
		Name: "cost", Short: "show what resources cost a month, now and as proposed", Args: "[WARD…]", Estate: true,
		Long: "Adds up prices from the drivers and from the price book in kasbah.toml, by ward, type and " +
			"kit, now and after the proposal.",
		Examples: [2]string{"kasbah cost -env live", "kasbah cost shore -offline -json"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var((*flags.List)(&f.Only), "only", "only addresses that match this `pattern`, and what they need; "+
				"repeatable")
			fs.BoolVar(&f.Offline, "offline", false, "take what the ledger has for what is live")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			p, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			made, err := p.Propose(ctx, f)
			if err != nil {
				return err
			}
			a.tellRemarks(made.Remarks)
			return show(a, propose.NewCosts(made.Proposal), (*render.Out).Cost)
		},
	}
}
