package cli

import (
	"context"
	"flag"

	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/flags"
	"kasbah/render"
)

func ledgerMoveCommand() *command {
	var to flags.Pairs
	var why string
	return &command{
		Name: "ledger move", Short: "move an environment's ledgers into another store", Args: "", Estate: true,
		Long: "Copies the ledgers of an environment into another store, checks the copies, and closes the " +
			"old place. Then change [ledger] in kasbah.toml.",
		Examples: [2]string{`kasbah ledger move -env live -to store=postgres -to 'dsn={env="LEDGER_DSN"}'`,
			"kasbah ledger move -to store=file -to path=.kasbah/ledger"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var(&to, "to", "a `key=value` of [ledger] as it is to be; give each")
			fs.StringVar(&why, "why", "", "the `reason`, for the history")
		},
		Takes: noArguments(),
		Run: func(ctx context.Context, a *app, _ []string) error {
			if len(to.Pairs) == 0 {
				return problem.Usage("ledger move needs the new [ledger], such as -to store=postgres -to dsn=…")
			}
			settings := value.Map{}
			for k, v := range to.Pairs {
				settings[k] = value.Typed(v)
			}
			s, err := a.open(ctx, nil)
			if err != nil {
				return err
			}
			d, err := s.Move(ctx, settings, a.typed, why)
			if err != nil {
				return err
			}
			return show(a, d, func(o *render.Out, d *ledger.Moved) { o.Moved(d, settings) })
		},
	}
}
