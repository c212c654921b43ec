package cli

import (
	"context"
	"flag"

	"kasbah/core/ledger"
	"kasbah/core/problem"
)

func lockBreakCommand() *command {
	var why string
	return &command{
		Name: "lock break", Short: "take the lock away from a dead run", Args: "RUN", Estate: true,
		Long: "Ends the lock of a run that cannot end it itself. Make sure that the run is dead: if it " +
			"still runs, it cannot write any more.",
		Examples: [2]string{`kasbah lock break Q5T8ZK4B -why "the machine lost power"`,
			`kasbah lock break Q5T8ZK4B -env live -why "its terminal is gone"`},
		Flags: func(fs *flag.FlagSet) { fs.StringVar(&why, "why", "", "the `reason`, for the ledger; required") },
		Takes: exactly(1, "one run"),
		Run: func(ctx context.Context, a *app, args []string) error {
			if why == "" {
				return problem.Usage("lock break needs a reason: -why \"…\"")
			}
			s, err := a.open(ctx, nil)
			if err != nil {
				return err
			}
			run, wards, err := s.Break(ctx, args[0], why)
			for _, w := range wards {
				a.out().Printf("%s: the lock of run %s is broken.\n", w, ledger.ShortRun(run))
			}
			return err
		},
	}
}
