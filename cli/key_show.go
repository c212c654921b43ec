package cli

import (
	"fmt"

	"kasbah/home"
)

func keyShowCommand() *command {
	return &command{
		Name: "key show", Short: "print your public key, for others to admit", Args: "",
		Long: "Prints the public keys of this machine that open sealed ledgers. Give one to a person who " +
			"can run key admit.",
		Examples: [2]string{"kasbah key show", "kasbah key show -json"},
		Takes:    noArguments(),
		Run: atHome(func(a *app, h *home.Home, _ []string) error {
			mine, err := h.Public()
			if err != nil {
				return err
			}
			if len(mine) == 0 && !a.json {
				return fmt.Errorf("you have no key in %s; `kasbah key new` makes one. The SSH keys in ~/.ssh can be "+
					"used, too", h.IdentitiesFile())
			}
			return a.showKeys(h.IdentitiesFile(), mine...)
		}),
	}
}
