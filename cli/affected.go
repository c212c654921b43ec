package cli

import (
	"context"
	"flag"

	"kasbah/core/problem"
	"kasbah/exit"
	"kasbah/render"
	"kasbah/session"
)

func affectedCommand() *command {
	var since string
	var plain, exitCode bool
	return &command{
		Name: "affected", Short: "say which wards declare something else than at a commit", Args: "[WARD…]", Estate: true,
		Long: "Evaluates the files as they are and as they were at a commit, and compares what they declare: in " +
			"the environment of -env, else in each. It reads neither a ledger nor a cloud, and evaluates the wards " +
			"alone that the changed files can move.",
		Examples: [2]string{"kasbah affected -since main",
			"for ward in $(kasbah affected -since main -env live -plain); do …; done"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&since, "since", "", "the `commit` to compare with: a branch, a tag or a hash")
			fs.BoolVar(&plain, "plain", false, "write the names of the wards, one a line")
			fs.BoolVar(&exitCode, "exit-code", false, "end with 3 when a ward is affected")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if since == "" {
				return problem.Usage("affected needs -since COMMIT, such as -since main")
			}
			d, err := session.AffectedSince(ctx, a.config(a.env, args), since)
			if err != nil {
				return err
			}
			if plain && !a.json {
				a.out().Lines(d.Names())
			} else if err := show(a, d, (*render.Out).Affected); err != nil {
				return err
			}
			if exitCode && len(d.Names()) > 0 {
				return exit.ErrDifferent
			}
			return nil
		},
	}
}
