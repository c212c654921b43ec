package cli

import (
	"context"
	"flag"
	"maps"
	"strings"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/render"
)

func lockRecoverCommand() *command {
	var made listFlag
	var f enactFlags
	return &command{
		Name: "lock recover", Short: "settle the unfinished calls of a dead run", Args: "RUN", Estate: true,
		Long: "Asks the cloud what became of calls without a result. Where the cloud cannot say, look " +
			"yourself and tell it with -made.",
		Examples: [2]string{"kasbah lock recover Q5T8ZK4B", "kasbah lock recover Q5T8ZK4B -made " +
			"medina.machine/gauge=mac-0012"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var(&made, "made", "what you know of a call, as `address=id` or address=none; repeatable")
			fs.DurationVar(&f.wait, "wait", 0, "how long to wait for the lock, such as 10m")
			fs.BoolVar(&f.breakStale, "break-stale", false, "take the lock of a dead run")
		},
		Takes: exactly(1, "one run"),
		Run: func(ctx context.Context, a *app, args []string) error {
			known := map[string]string{}
			for _, m := range made {
				address, id, ok := strings.Cut(m, "=")
				if !ok || id == "" {
					return problem.Usage("-made must be address=id or address=none, not %q", m)
				}
				known[address] = id
			}
			p, states, err := a.openStates(ctx, nil)
			if err != nil {
				return err
			}
			var ids []string
			for _, w := range p.Wards {
				for _, in := range states[w].Unresolved() {
					ids = append(ids, in.Run)
				}
				for id := range states[w].Open {
					ids = append(ids, id)
				}
			}
			run, err := ledger.FindRun(ids, args[0])
			if err != nil {
				return err
			}
			addresses := map[string][]string{}
			scopes := map[string]ledger.Scope{}
			for _, w := range p.Wards {
				if open := states[w].Open[run]; open != nil {
					scopes[w] = open.Begin.Scope
					continue
				}
				for _, in := range states[w].Intents {
					if in.Run == run {
						addresses[w] = append(addresses[w], in.Intent.Address)
					}
				}
			}
			maps.Copy(scopes, enact.ScopesOf(addresses))
			r, err := enact.Recover(ctx, scopes, known, p.EnactOptions(ctx, f.run(a)))
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
