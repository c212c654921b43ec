package cli

import (
	"kasbah/home"
)

func keyNewCommand() *command {
	return &command{
		Name: "key new", Short: "make a key for reading sealed ledgers", Args: "",
		Long: "Makes a key in your configuration folder. Keep a copy of it: without a key, a sealed ledger " +
			"cannot be read.",
		Examples: [2]string{"kasbah key new", "kasbah key new -json"},
		Takes:    noArguments(),
		Run: atHome(func(a *app, h *home.Home, _ []string) error {
			public, err := h.NewIdentity()
			if err != nil {
				return err
			}
			a.say("Kept in %s. Make a copy of it: without it, what is sealed to it cannot be read.",
				h.IdentitiesFile())
			return a.showKeys(h.IdentitiesFile(), public)
		}),
	}
}
