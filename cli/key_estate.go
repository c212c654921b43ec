package cli

import (
	"context"

	"kasbah/session"
)

// keyEstateCommand makes what seals an estate that was begun without.
func keyEstateCommand() *command {
	return &command{
		Name: "key estate", Short: "make an estate's id and key, and print the lines of kasbah.toml that seal it",
		Args: "",
		Long: "Makes what an estate needs to be sealed. Put the printed lines under [ledger] in " +
			"kasbah.toml, then run ledger reseal.",
		Examples: [2]string{"kasbah key estate", "kasbah key estate -quiet"},
		Takes:    noArguments(),
		Run: func(_ context.Context, a *app, _ []string) error {
			lines, said, err := session.NewSealing(a.home, a.acting())
			if err != nil {
				return err
			}
			a.out().Printf("%s", lines)
			a.say("%s. Put these lines under [ledger] in kasbah.toml, and `kasbah ledger reseal`.", said)
			return nil
		},
	}
}
