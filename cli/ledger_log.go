package cli

import (
	"context"
	"flag"
	"slices"
	"sort"
	"strings"

	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/render"
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
			wards, named := wardsAndRuns(args)
			p, err := a.open(ctx, wards)
			if err != nil {
				return err
			}
			runs := []*ledger.RunSummary{}
			var unread int64
			for _, w := range p.Wards {
				list, more, err := p.Ledgers[w].History(ctx)
				if err != nil {
					return err
				}
				unread += more
				for _, r := range list {
					if len(named) == 0 || slices.ContainsFunc(named, func(s string) bool {
						return ledger.IsRun(r.Run,
							s)
					}) {
						runs = append(runs, r)
					}
				}
			}
			if len(named) > 0 && len(runs) == 0 {
				return &problem.UsageError{Message: "no run is called " + strings.Join(named, " or "),
					Hint: "`kasbah ledger log` lists them"}
			}
			sort.SliceStable(runs, func(i, j int) bool { return runs[i].Began.Before(runs[j].Began) })
			runs = ledger.Newest(runs, last)
			if a.json {
				return a.document(render.LogDocument{Format: "kasbah.log/1", Runs: runs, Unread: unread})
			}
			a.out().Log(runs, full)
			if unread > 0 {
				a.out().Printf("%s more, sealed to keys that are not on this machine.\n", render.Entries(unread))
			}
			return nil
		},
	}
}

// wardsAndRuns tells arguments that are ids of runs, which begin with a digit, from names of
// wards, which do not.
func wardsAndRuns(args []string) (wards, runs []string) {
	for _, s := range args {
		if s != "" && s[0] >= '0' && s[0] <= '9' {
			runs = append(runs, s)
		} else {
			wards = append(wards, s)
		}
	}
	return wards, runs
}
