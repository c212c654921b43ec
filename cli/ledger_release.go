package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/render"
)

// releaseDocument is the JSON form of a release.
type releaseDocument struct {
	Format   string   `json:"format"`
	Run      string   `json:"run"`
	Released []string `json:"released"` // with their wards
}

func ledgerReleaseCommand() *command {
	var f enactFlags
	return &command{
		Name: "ledger release", Short: "stop managing resources; the cloud keeps them", Args: "ADDRESS…", Estate: true,
		Long: "Removes resources from the ledger. They stay in the cloud, and Kasbah no longer manages " +
			"them. Remove them from the declarations, too.",
		Examples: [2]string{"kasbah ledger release medina.bucket/charts -why \"another team has it now\"",
			"kasbah ledger release 'shore:medina.machine/*' -yes"},
		Flags: func(fs *flag.FlagSet) { f.registerRun(fs) },
		Takes: atLeast(1, "addresses, or patterns of them"),
		Run: func(ctx context.Context, a *app, args []string) error {
			s, states, err := a.openStates(ctx, nil)
			if err != nil {
				return err
			}
			chosen, err := enact.Matching(states, args)
			if err != nil {
				return err
			}
			if err := a.consentTo(ctx, fmt.Sprintf("Release %s? They stay in the cloud, and nothing here manages "+
				"them any more.", strings.Join(chosen, ", "))); err != nil {
				return err
			}
			o := s.EnactOptions(ctx, f.run(a))
			if err := enact.Release(ctx, chosen, o); err != nil {
				return err
			}
			return show(a, releaseDocument{"kasbah.release/1", o.Run, chosen}, func(o *render.Out, d releaseDocument) {
				o.Printf("%s released. Run %s.\nIf it stays declared, the next run makes it again: remove it from the "+
					"declarations.\n", render.Count(len(d.Released), "resource"), ledger.ShortRun(d.Run))
			})
		},
	}
}
