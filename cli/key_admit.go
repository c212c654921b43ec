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
		Takes: atLeast(2, "a name and a public key"),
		Run: func(ctx context.Context, a *app, args []string) error {
			name, public := args[0], estate.PublicKey(strings.Join(args[1:], " "))
			err := home.CheckName(name)
			if err == nil && writer {
				if _, err = approval.Public(public); err != nil {
					err = fmt.Errorf("%s: %w", public, err)
				}
			} else if err == nil {
				_, err = seal.Recipient(public)
			}
			if err != nil {
				return problem.Usage("%v", err)
			}
			return a.changeKeys(ctx, session.Admit(name, public, writer))
		},
	}
}
