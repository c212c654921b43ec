package cli

import (
	"context"
	"flag"
	"slices"
	"sort"
	"strings"

	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
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
			wards, named, err := a.wardsAndRuns(args)
			if err != nil {
				return err
			}
			p, err := a.open(ctx, wards)
			if err != nil {
				return err
			}
			runs, unread, err := runsNamed(ctx, p, named)
			if err != nil {
				return err
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

// wardsAndRuns tells names of wards from ids of runs.
func (a *app) wardsAndRuns(args []string) (wards, runs []string, err error) {
	e, err := session.FindEstate(a.dir)
	if err != nil {
		return nil, nil, err
	}
	for _, s := range args {
		if !e.HasWard(s) && ledger.LooksLikeRun(s) {
			runs = append(runs, s)
		} else {
			wards = append(wards, s)
		}
	}
	return wards, runs, nil
}

// runsNamed are the runs over a session's wards that are called so, all without names, and how
// many entries could not be read.
func runsNamed(ctx context.Context, s *session.Session, named []string) ([]*ledger.RunSummary, int64, error) {
	runs := []*ledger.RunSummary{}
	var unread int64
	for _, w := range s.Wards {
		list, more, err := s.Ledgers[w].History(ctx)
		if err != nil {
			return nil, 0, err
		}
		unread += more
		for _, r := range list {
			called := func(name string) bool { return ledger.IsRun(r.Run, name) }
			if len(named) == 0 || slices.ContainsFunc(named, called) {
				runs = append(runs, r)
			}
		}
	}
	if len(named) > 0 && len(runs) == 0 {
		hint := nearest.Hint(named[0], s.Estate.Wards)
		if hint == "" {
			hint = "`kasbah ledger log` lists runs"
		}
		return nil, 0, &problem.UsageError{Message: "no run and no ward is called " + strings.Join(named, " or "), Hint: hint}
	}
	return runs, unread, nil
}
