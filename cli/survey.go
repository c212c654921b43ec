package cli

import (
	"context"
	"flag"

	"kasbah/core/survey"
	"kasbah/render"
)

func surveyCommand() *command {
	var full, exitCode bool
	return &command{
		Name: "survey", Short: "find drift: compare what is recorded with what is live", Args: "[WARD…]", Estate: true,
		Long: "Reads what is live and reports what differs from the ledger, with who and when if the cloud " +
			"knows. It changes nothing; enact puts back what is declared.",
		Examples: [2]string{"kasbah survey -env live", "kasbah survey shore -exit-code -json"},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&full, "full", false, "list what matches, too")
			fs.BoolVar(&exitCode, "exit-code", false, "end with 3 when something drifted, with 1 when nothing did "+
				"and something was not checked")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			p, states, err := a.openStates(ctx, args)
			if err != nil {
				return err
			}
			r, err := p.Survey(ctx, states, a.json)
			if err != nil {
				return err
			}
			if err := show(a, r, func(o *render.Out, r *survey.Report) { o.Survey(r, full) }); err != nil {
				return err
			}
			switch {
			case r.Judged.Blocks():
				return exitError(exitRefused)
			case exitCode && r.Counts.Drifted():
				return errDifferent
			case exitCode && r.Failed():
				return exitError(exitFailed)
			}
			return nil
		},
	}
}
