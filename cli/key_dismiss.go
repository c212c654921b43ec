package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/session"
)

func keyDismissCommand() *command {
	return &command{
		Name: "key dismiss", Short: "end a person's reading and writing, from the ledger's next reseal on",
		Args: "NAME|PUBLIC",
		Long: "Removes a person from recipients and writers in kasbah.toml, gives the estate another key, " +
			"and lists the secrets to renew. ledger reseal then applies it.",
		Examples: [2]string{"kasbah key dismiss keeper-2", "kasbah key dismiss age1qe…"},
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) == 0 {
				return problem.Usage("key dismiss needs a name or a public key")
			}
			who := strings.Join(args, " ")
			return a.changeKeys(ctx, func(e *estate.Estate, c *session.KeyChange) error {
				var names []string
				for _, list := range []string{"recipients", "writers"} {
					was := e.LedgerList(list)
					stay := slices.DeleteFunc(slices.Clone(was), func(r string) bool {
						return estate.KeyHolder(r) == who || estate.PublicKey(r) == estate.PublicKey(who)
					})
					for _, r := range was {
						names = append(names, estate.KeyHolder(r))
					}
					switch {
					case len(stay) == len(was):
						continue
					case len(stay) == 0 && list == "recipients":
						return errors.New("it is the only recipient: without it the ledger could not be read any more")
					case len(stay) == 0:
						return errors.New("it is the only writer: without it the ledger could not be written any more")
					}
					c.Lists[list] = stay
					c.Leaving = c.Leaving || list == "recipients"
				}
				if len(c.Lists) == 0 {
					return &problem.UsageError{Message: "no recipient and no writer is called " + who,
						Hint: nearest.Hint(who, names)}
				}
				return nil
			})
		},
	}
}
