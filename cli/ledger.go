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
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/render"
)

func ledgerLogCommand() *command {
	var full bool
	var last int
	return &command{
		name: "ledger log", line: "list the runs: who, when, what and how they ended", args: "[WARD|RUN…]", common: true,
		examples: [2]string{"kasbah ledger log", "kasbah ledger log shore -full -last 3"},
		flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&full, "full", false, "list every call of each run")
			fs.IntVar(&last, "last", 0, "only the newest `runs`")
		},
		run: func(ctx context.Context, a *app, args []string) error {
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
					if len(named) == 0 || slices.ContainsFunc(named, func(s string) bool { return ledger.IsRun(r.Run, s) }) {
						runs = append(runs, r)
					}
				}
			}
			if len(named) > 0 && len(runs) == 0 {
				return &problem.UsageError{Message: "no run is called " + strings.Join(named, " or "), Hint: "`kasbah ledger log` lists them"}
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

func ledgerShowCommand() *command {
	var at int64
	var ward string
	return &command{
		name: "ledger show", line: "show what is recorded, now or after an entry", args: "[ADDRESS]", common: true,
		examples: [2]string{"kasbah ledger show", "kasbah ledger show medina.machine/gauge -at 14"},
		flags: func(fs *flag.FlagSet) {
			fs.Int64Var(&at, "at", 0, "as it was after this `entry`")
			fs.StringVar(&ward, "ward", "", "only this `ward`; needed with -at when there are several")
		},
		run: func(ctx context.Context, a *app, args []string) error { return a.ledgerShow(ctx, at, ward, args) },
	}
}

func (a *app) ledgerShow(ctx context.Context, at int64, ward string, args []string) error {
	if len(args) > 1 {
		return problem.Usage("ledger show takes one address")
	}
	pattern := "**"
	if len(args) == 1 {
		pattern = args[0]
		if w, short := value.SplitWard(pattern); w != "" {
			ward, pattern = w, short
		}
	}
	var wards []string
	if ward != "" {
		wards = []string{ward}
	}
	p, err := a.open(ctx, wards)
	if err != nil {
		return err
	}
	if at < 0 || at > 0 && len(p.Wards) > 1 {
		return problem.Usage("entries count from 1 in each ward; say which with -ward")
	}
	match := propose.Pattern(pattern)
	var docs []render.LedgerDocument
	var known []string
	found := 0
	for _, w := range p.Wards {
		s, err := p.At(ctx, w, at)
		if err != nil {
			return err
		}
		d := render.LedgerDocument{Format: "kasbah.ledger/1", Ward: w, Entry: s.Seq, Resources: []*ledger.Record{}}
		for _, address := range s.Addresses() {
			known = append(known, address)
			if !match(address) {
				continue
			}
			r, err := s.Records[address].Record()
			if err != nil {
				return err
			}
			d.Resources = append(d.Resources, r.Shown())
			found++
		}
		docs = append(docs, d)
	}
	if found == 0 && len(args) == 1 {
		return &problem.UsageError{Message: args[0] + " is not recorded", Hint: nearest.Hint(pattern, known)}
	}
	if a.json {
		for _, d := range docs {
			if err := a.document(d); err != nil {
				return err
			}
		}
		return nil
	}
	out := a.out()
	for _, d := range docs {
		if len(args) == 1 || a.verbose {
			for i, r := range d.Resources {
				if i > 0 {
					out.Printf("\n")
				}
				out.Record(d.Ward, r)
			}
			continue
		}
		out.Printf("%s\n", out.Bold(d.Ward+", "+p.Env+": entry "+value.Plain(d.Entry)+", "+render.Count(len(d.Resources), "resource")))
		var rows [][]string
		for _, r := range d.Resources {
			rows = append(rows, []string{"  " + render.Clean(r.Address), r.ID, render.Clean(value.Plain(map[string]any(r.Inputs)))})
		}
		out.Table(rows, nil)
	}
	return nil
}

func ledgerVerifyCommand() *command {
	var accept int64
	var why string
	return &command{
		name: "ledger verify", line: "prove the ledger whole: every entry, hash and checkpoint", args: "[WARD…]", common: true,
		examples: [2]string{"kasbah ledger verify", "kasbah ledger verify shore -accept 41 -why \"restored from Monday's backup\""},
		flags: func(fs *flag.FlagSet) {
			fs.Int64Var(&accept, "accept", -1, "note that the ledger was lost or restored and ends at this `entry`; 0 when nothing is left")
			fs.StringVar(&why, "why", "", "the `reason`, for the history")
		},
		run: func(ctx context.Context, a *app, args []string) error {
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
				a.out().Printf("%s, %s: whole. %d entries, %s, %s.\n", w, p.Env, v.Entries, render.Count(v.Checkpoints, "checkpoint"), render.Count(v.Records, "resource"))
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
