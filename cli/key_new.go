package cli

import (
	"context"
)

func keyNewCommand() *command {
	return &command{
		Name: "key new", Short: "make a key for reading sealed ledgers", Args: "",
		Long: "Makes a key in your configuration folder. Keep a copy of it: without a key, a sealed ledger " +
			"cannot be read.",
		Examples: [2]string{"kasbah key new", "kasbah key new -json"},
		Takes:    noArguments(),
		Run: func(_ context.Context, a *app, _ []string) error {
			home, err := a.home()
			if err != nil {
				return err
			}
			public, err := home.NewIdentity()
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.key/1", "file": home.IdentitiesFile(),
					"public": []string{public}})
			}
			a.out().Printf("%s\n", public)
			a.say("Kept in %s. Make a copy of it: without it, what is sealed to it cannot be read.",
				home.IdentitiesFile())
			return nil
		},
	}
}
