package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/render"
)

func ledgerReleaseCommand() *command {
	var f enactFlags
	return &command{
		Name: "ledger release", Short: "stop managing resources; the cloud keeps them", Args: "ADDRESS…", Estate: true,
		Long: "Removes resources from the ledger. They stay in the cloud, and Kasbah no longer manages " +
			"them. Remove them from the declarations, too.",
		Examples: [2]string{"kasbah ledger release medina.bucket/charts -why \"another team has it now\"",
			"kasbah ledger release 'shore:medina.machine/*' -yes"},
		Flags: func(fs *flag.FlagSet) {
			f.registerRun(fs)
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) == 0 {
				return problem.Usage("ledger release needs addresses, or patterns of them")
			}
			return a.ledgerRelease(ctx, args, f)
		},
	}
}

func (a *app) ledgerRelease(ctx context.Context, patterns []string, f enactFlags) error {
	p, states, err := a.openStates(ctx, nil)
	if err != nil {
		return err
	}
	var chosen, known []string
	for _, pattern := range patterns {
		match, hit := propose.Pattern(pattern), false
		for _, w := range p.Wards {
			for _, address := range states[w].Addresses() {
				full := value.InWard(w, address)
				known = append(known, address)
				if match(address) || match(full) {
					hit = true
					if !slices.Contains(chosen, full) {
						chosen = append(chosen, full)
					}
				}
			}
		}
		if !hit {
			_, short := value.SplitWard(pattern)
			return &problem.UsageError{Message: pattern + " is not recorded", Hint: nearest.Hint(short, known)}
		}
	}
	if err := a.consentTo(ctx,
		fmt.Sprintf("Release %s? They stay in the cloud, and nothing here manages them any more.",
			strings.Join(chosen, ", "))); err != nil {
		return err
	}
	o := p.EnactOptions(ctx, f.run(a))
	if err := enact.Release(ctx, chosen, o); err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{"format": "kasbah.release/1", "run": o.Run, "released": chosen})
	}
	a.out().Printf("%s released. Run %s.\nIf it stays declared, the next run makes it again: remove it from the "+
		"declarations.\n", render.Count(len(chosen), "resource"), ledger.ShortRun(o.Run))
	return nil
}
