package cli

import (
	"context"
	"flag"
	"strconv"

	"kasbah/core/problem"
)

func ledgerRestoreCommand() *command {
	var f enactFlags
	return &command{
		Name: "ledger restore", Short: "take a ward back to its state after an earlier entry", Args: "ENTRY [WARD]",
		Estate: true, Lines: true,
		Long: "Proposes to make a ward as it was recorded after an entry, asks, and carries it out. The " +
			"declarations are not changed.",
		Examples: [2]string{"kasbah ledger restore 14 shore", "kasbah ledger restore 14 shore -env live -yes -why " +
			"\"back to Monday\""},
		Flags: func(fs *flag.FlagSet) {
			f.register(fs)
			fs.BoolVar(&f.full, "full", false, "list every action, even identical ones")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			if len(args) < 1 || len(args) > 2 {
				return problem.Usage("ledger restore needs an entry, and its ward when there are several")
			}
			var err error
			if f.Restore, err = strconv.ParseInt(args[0], 10, 64); err != nil || f.Restore < 1 {
				return problem.Usage("%q is not an entry: entries count from 1; `kasbah ledger log` shows those of "+
					"each run", args[0])
			}
			if err := a.enactWards(ctx, f, args[1:]); err != nil {
				return err
			}
			a.say("The declarations have not changed: the next proposal would go back to what they say.")
			return nil
		},
	}
}
