package cli

import (
	"context"
	"flag"
	"fmt"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/render"
)

// renameDocument is the JSON form of a rename.
type renameDocument struct {
	Format string `json:"format"`
	From   string `json:"from"` // with its ward
	To     string `json:"to"`
	Run    string `json:"run"`
}

func ledgerRenameCommand() *command {
	var f enactFlags
	return &command{
		Name: "ledger rename", Short: "record a resource under another address, in its ward or another",
		Args: "ADDRESS ADDRESS", Estate: true,
		Long: "Records a resource under another address, without a change in the cloud. Use " +
			"care(renamed_from = ...) where the code can say it.",
		Examples: [2]string{"kasbah ledger rename medina.subnet/quay medina.subnet/pier",
			`kasbah ledger rename shore:medina.bucket/log signal:medina.bucket/readings -why "it moved"`},
		Flags: func(fs *flag.FlagSet) { f.registerRun(fs) },
		Takes: exactly(2, "two addresses: what it is, and what it is to be"),
		Run: func(ctx context.Context, a *app, args []string) error {
			s, states, err := a.openStates(ctx, nil)
			if err != nil {
				return err
			}
			from, to, err := enact.Renaming(states, args[0], args[1])
			if err != nil {
				return err
			}
			if err := a.consentTo(ctx, fmt.Sprintf("Record %s as %s?", from, to)); err != nil {
				return err
			}
			o := s.EnactOptions(ctx, f.run(a))
			if err := enact.Rename(ctx, from, to, o); err != nil {
				return err
			}
			return show(a, renameDocument{"kasbah.rename/1", from, to, o.Run}, func(o *render.Out, d renameDocument) {
				o.Printf("%s is recorded as %s. Run %s.\n", d.From, d.To, ledger.ShortRun(d.Run))
			})
		},
	}
}
