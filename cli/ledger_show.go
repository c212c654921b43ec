package cli

import (
	"context"
	"flag"

	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/render"
)

func ledgerShowCommand() *command {
	var at int64
	var ward string
	return &command{
		Name: "ledger show", Short: "show what is recorded, now or after an entry", Args: "[ADDRESS|RUN]", Estate: true,
		Long: "Shows recorded resources with their inputs and what the cloud decided. An ADDRESS can be a " +
			"pattern. With a RUN it shows that run and its calls.",
		Examples: [2]string{"kasbah ledger show", "kasbah ledger show medina.machine/gauge -at 14"},
		Flags: func(fs *flag.FlagSet) {
			fs.Int64Var(&at, "at", 0, "as it was after this `entry`")
			fs.StringVar(&ward, "ward", "", "only this `ward`; needed with -at when there are several")
		},
		Run: func(ctx context.Context, a *app, args []string) error { return a.ledgerShow(ctx, at, ward, args) },
	}
}

func (a *app) ledgerShow(ctx context.Context, at int64, ward string, args []string) error {
	if len(args) > 1 {
		return problem.Usage("ledger show takes one address")
	}
	pattern := "**"
	if len(args) == 1 {
		pattern = args[0]
		if ledger.LooksLikeRun(pattern) {
			return a.showRun(ctx, pattern)
		}
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
	doc := render.LedgerDocument{Format: "kasbah.ledger/1", Env: p.Env, Wards: []render.LedgerWard{}}
	var known []string
	found := 0
	for _, w := range p.Wards {
		s, err := p.At(ctx, w, at)
		if err != nil {
			return err
		}
		d := render.LedgerWard{Ward: w, Entry: s.Seq, Resources: []*ledger.Record{}}
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
		doc.Wards = append(doc.Wards, d)
	}
	if found == 0 && len(args) == 1 {
		return &problem.UsageError{Message: args[0] + " is not recorded", Hint: nearest.Hint(pattern, known)}
	}
	if a.json {
		return a.document(doc)
	}
	out := a.out()
	for _, d := range doc.Wards {
		if len(args) == 1 || a.verbose {
			for i, r := range d.Resources {
				if i > 0 {
					out.Printf("\n")
				}
				out.Record(d.Ward, r)
			}
			continue
		}
		out.Printf("%s\n",
			out.Bold(d.Ward+", "+p.Env+": entry "+value.Plain(d.Entry)+", "+render.Count(len(d.Resources), "resource")))
		var rows [][]string
		for _, r := range d.Resources {
			rows = append(rows, []string{"  " + render.Clean(r.Address), r.ID,
				render.Clean(value.Plain(map[string]any(r.Inputs)))})
		}
		out.Table(rows, nil)
	}
	return nil
}

// showRun shows a run with its calls, as ledger log -full does.
func (a *app) showRun(ctx context.Context, run string) error {
	s, err := a.open(ctx, nil)
	if err != nil {
		return err
	}
	runs, unread, err := runsNamed(ctx, s, []string{run})
	if err != nil {
		return err
	}
	if a.json {
		return a.document(render.LogDocument{Format: "kasbah.log/1", Runs: runs, Unread: unread})
	}
	a.out().Log(runs, true)
	return nil
}
