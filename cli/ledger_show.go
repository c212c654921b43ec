package cli

import (
	"context"
	"flag"

	"kasbah/core/ledger"
	"kasbah/core/value"
)

func ledgerShowCommand() *command {
	var at int64
	var ward string
	return &command{
		Name: "ledger show", Short: "show what is recorded, now or after an entry", Args: "[ADDRESS|RUN]", Estate: true,
		Long: "Shows recorded resources with their inputs and what the cloud decided. An ADDRESS can be a " +
			"pattern. With a RUN it shows that run and its calls.",
		Examples: [2]string{"kasbah ledger show", "kasbah ledger show medina.machine/gauge -at 14"},
		Flags: func(fs *flag.FlagSet) {
			fs.Int64Var(&at, "at", 0, "as it was after this `entry`")
			fs.StringVar(&ward, "ward", "", "only this `ward`; needed with -at when there are several")
		},
		Takes: atMost(1, "one address"),
		Run: func(ctx context.Context, a *app, args []string) error {
			pattern := "**"
			if len(args) == 1 {
				pattern = args[0]
				if ledger.LooksLikeRun(pattern) {
					return a.log(ctx, nil, args, 0, true)
				}
				if w, short := value.SplitWard(pattern); w != "" {
					ward, pattern = w, short
				}
			}
			s, err := a.open(ctx, wardsOf(ward))
			if err != nil {
				return err
			}
			d, err := s.Recorded(ctx, pattern, at)
			if err != nil {
				return err
			}
			full := len(args) == 1 || a.verbose
			if a.json {
				return a.document(d)
			}
			return a.out().Recorded(d, full)
		},
	}
}

// wardsOf is a list of one ward; empty, for all wards, where none is named.
func wardsOf(ward string) []string {
	if ward == "" {
		return nil
	}
	return []string{ward}
}
