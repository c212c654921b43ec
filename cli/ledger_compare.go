package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
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
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return problem.Usage("ledger compare needs one entry (then and now), two entries, or two environments")
			}
			return a.ledgerCompare(ctx, args, ward)
		},
	}
}

func (a *app) ledgerCompare(ctx context.Context, args []string, ward string) error {
	var wards []string
	if ward != "" {
		wards = []string{ward}
	}
	e, err := session.FindEstate(a.dir)
	if err != nil {
		return err
	}
	doc := propose.Comparison{Format: "kasbah.compare/1", Wards: []propose.WardComparison{}}
	if len(args) == 2 && e.HasEnvironment(args[0]) && e.HasEnvironment(args[1]) {
		var sides [2]*session.Session
		for i, env := range args {
			if sides[i], err = a.openWith(ctx, a.config(env, wards)); err != nil {
				return err
			}
		}
		doc.A, doc.B = args[0], args[1]
		for _, w := range sides[0].Wards {
			was, err := sides[0].Ledgers[w].Load(ctx)
			if err != nil {
				return err
			}
			now, err := sides[1].Ledgers[w].Load(ctx)
			if err != nil {
				return err
			}
			if err := doc.Add(w, was, now); err != nil {
				return err
			}
		}
		return a.tellCompare(doc)
	}
	var at [2]int64
	for i, arg := range args {
		if at[i], err = strconv.ParseInt(arg, 10, 64); err != nil || at[i] < 1 {
			return &problem.UsageError{Message: fmt.Sprintf("%q is neither an entry nor one of two environments", arg),
				Hint: nearest.Hint(arg, e.Environments())}
		}
	}
	p, err := a.open(ctx, wards)
	if err != nil {
		return err
	}
	if len(p.Wards) > 1 {
		return problem.Usage("entries count from 1 in each ward; say which with -ward")
	}
	doc.A, doc.B = "entry "+args[0], "now"
	if len(args) == 2 {
		doc.B = "entry " + args[1]
	}
	was, err := p.At(ctx, p.Wards[0], at[0])
	if err != nil {
		return err
	}
	now, err := p.At(ctx, p.Wards[0], at[1])
	if err != nil {
		return err
	}
	if err := doc.Add(p.Wards[0], was, now); err != nil {
		return err
	}
	return a.tellCompare(doc)
}

func (a *app) tellCompare(doc propose.Comparison) error {
	if a.json {
		return a.document(doc)
	}
	a.out().Compare(doc)
	return nil
}
