package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"kasbah/core/approval"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/seal"
	"kasbah/home"
	"kasbah/session"
)

func keyAdmitCommand() *command {
	var writer bool
	return &command{
		Name: "key admit", Short: "let a person read the ledger, or write it, from its next reseal on",
		Args: "NAME PUBLIC",
		Long: "Adds a public key to recipients, or with -writer to writers, in kasbah.toml. ledger reseal " +
			"then applies it.",
		Examples: [2]string{"kasbah key admit keeper-2 age1qe…",
			"kasbah key admit keeper-2 -writer \"$(cat keeper-2.pub)\""},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&writer, "writer", false, "the key signs what they write; without it, it opens what they read")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) < 2 {
				return problem.Usage("key admit needs a name and a public key")
			}
			name, public := args[0], estate.PublicKey(strings.Join(args[1:], " "))
			if err := home.CheckName(name); err != nil {
				return problem.Usage("%v", err)
			}
			list, what := "recipients", "a recipient"
			if writer {
				list, what = "writers", "a writer"
				if _, err := approval.Public(public); err != nil {
					return problem.Usage("%s: %v", public, err)
				}
			} else if _, err := seal.Recipient(public); err != nil {
				return problem.Usage("%v", err)
			}
			return a.changeKeys(ctx, func(e *estate.Estate, c *session.KeyChange) error {
				for _, r := range e.LedgerList(list) {
					if estate.PublicKey(r) == public {
						return fmt.Errorf("that key is %s already", what)
					}
					if estate.KeyHolder(r) == name {
						return fmt.Errorf("%s is %s already, with another key; dismiss that one first", name, what)
					}
				}
				c.Lists[list] = append(e.LedgerList(list), public+" "+name)
				return nil
			})
		},
	}
}
