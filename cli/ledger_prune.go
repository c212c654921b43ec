package cli

import (
	"context"
	"flag"
	"strings"

	"github.com/oklog/ulid/v2"

	"kasbah/core/ledger"
	"kasbah/core/problem"
)

func ledgerPruneCommand() *command {
	var keep int64
	var why string
	return &command{
		Name: "ledger prune", Short: "delete the oldest entries for good; recorded resources stay", Args: "[WARD…]",
		Estate: true,
		Long: "Deletes old entries, up to a checkpoint. What is recorded stays; the history before it is " +
			"lost.",
		Examples: [2]string{"kasbah ledger prune -keep 5000", "kasbah ledger prune shore -env trial -keep 0 -yes"},
		Flags: func(fs *flag.FlagSet) {
			fs.Int64Var(&keep, "keep", 1000, "how many of the newest `entries` to keep")
			fs.StringVar(&why, "why", "", "the `reason`, for the history")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if keep < 0 {
				return problem.Usage("-keep is a number of entries")
			}
			p, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			if err := a.consentTo(ctx, "Prune the history of "+strings.Join(p.Wards,
				", ")+"? It cannot be had back."); err != nil {
				return err
			}
			type pruned struct {
				Ward string `json:"ward"`
				UpTo int64  `json:"up_to"`
			}
			doc := struct {
				Format string   `json:"format"`
				Wards  []pruned `json:"wards"`
			}{"kasbah.prune/1", []pruned{}}
			for _, w := range p.Wards {
				upTo, err := p.Ledgers[w].Prune(ctx, keep, ledger.BeginOptions{ID: ulid.Make().String(),
					Command: a.typed, Reason: why})
				if err != nil {
					return err
				}
				doc.Wards = append(doc.Wards, pruned{w, upTo})
				switch {
				case a.json:
				case upTo == 0:
					a.out().Printf("%s, %s: nothing to prune. Entries are pruned up to the older of two checkpoints, "+
						"which are written as the log grows.\n", w, p.Env)
				default:
					a.out().Printf("%s, %s: entries 1 to %d are gone.\n", w, p.Env, upTo)
				}
			}
			if a.json {
				return a.document(doc)
			}
			return nil
		},
	}
}
