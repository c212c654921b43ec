package cli

import (
	"context"
	"flag"

	"kasbah/core/ledger"
	"kasbah/render"
	"kasbah/session"
)

func ledgerLogCommand() *command {
	var full bool
	var last int
	return &command{
		Name: "ledger log", Short: "list the runs: who, when, what and how they ended", Args: "[WARD|RUN…]",
		Estate: true,
		Long: "Lists runs from the oldest to the newest. Name wards, or runs by their ids, to list only " +
			"those.",
		Examples: [2]string{"kasbah ledger log", "kasbah ledger log shore -full -last 3"},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&full, "full", false, "list every call of each run")
			fs.IntVar(&last, "last", 0, "only the newest `runs`")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			wards, runs, err := session.WardsAndRuns(a.dir, args)
			if err != nil {
				return err
			}
			return a.log(ctx, wards, runs, last, full)
		},
	}
}

// log shows the history of some wards: of these runs, or of the last so many.
func (a *app) log(ctx context.Context, wards, runs []string, last int, full bool) error {
	s, err := a.open(ctx, wards)
	if err != nil {
		return err
	}
	d, err := s.Log(ctx, runs, last, full || a.json)
	if err != nil {
		return err
	}
	return show(a, d, func(o *render.Out, d *ledger.Log) { o.Log(d, full) })
}
