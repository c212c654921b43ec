package cli

import (
	"context"
	"flag"

	"kasbah/core/enact"
	"kasbah/flags"
	"kasbah/render"
)

func lockRecoverCommand() *command {
	made := flags.Pairs{Form: "address=id or address=none"}
	var f enactFlags
	return &command{
		Name: "lock recover", Short: "settle the unfinished calls of a dead run", Args: "RUN", Estate: true,
		Long: "Asks the cloud what became of calls without a result. Where the cloud cannot say, look " +
			"yourself and tell it with -made.",
		Examples: [2]string{"kasbah lock recover Q5T8ZK4B", "kasbah lock recover Q5T8ZK4B -made " +
			"medina.machine/gauge=mac-0012"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var(&made, "made", "what you know of a call, as `address=id` or address=none; repeatable")
			f.registerWait(fs)
		},
		Takes: exactly(1, "one run"),
		Run: func(ctx context.Context, a *app, args []string) error {
			s, states, err := a.openStates(ctx, nil)
			if err != nil {
				return err
			}
			scopes, err := enact.UnfinishedScopes(states, args[0])
			if err != nil {
				return err
			}
			r, err := enact.Recover(ctx, scopes, made.Pairs, s.EnactOptions(ctx, f.run(a)))
			if err != nil {
				return err
			}
			for _, full := range r.Recovered {
				a.out().Printf("%s: settled\n", full)
			}
			a.out().Printf("%s settled.\n", render.Count(len(r.Recovered), "call"))
			return nil
		},
	}
}
