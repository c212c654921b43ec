package cli

import (
	"context"
	"strings"

	"kasbah/session"
)

func keyDismissCommand() *command {
	return &command{
		Name: "key dismiss", Short: "end a person's reading and writing, from the ledger's next reseal on",
		Args: "NAME|PUBLIC",
		Long: "Removes a person from recipients and writers in kasbah.toml, gives the estate another key, " +
			"and lists the secrets to renew. ledger reseal then applies it.",
		Examples: [2]string{"kasbah key dismiss keeper-2", "kasbah key dismiss age1qe…"},
		Takes:    atLeast(1, "a name or a public key"),
		Run: func(ctx context.Context, a *app, args []string) error {
			return a.changeKeys(ctx, session.Dismiss(strings.Join(args, " ")))
		},
	}
}
