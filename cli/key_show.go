package cli

import (
	"context"
	"fmt"
)

func keyShowCommand() *command {
	return &command{
		Name: "key show", Short: "print your public key, for others to admit", Args: "",
		Long: "Prints the public keys of this machine that open sealed ledgers. Give one to a person who " +
			"can run key admit.",
		Examples: [2]string{"kasbah key show", "kasbah key show -json"},
		Takes:    noArguments(),
		Run: func(_ context.Context, a *app, _ []string) error {
			home, err := a.home()
			if err != nil {
				return err
			}
			mine, err := home.Public()
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.key/1", "file": home.IdentitiesFile(),
					"public": append([]string{}, mine...)})
			}
			if len(mine) == 0 {
				return fmt.Errorf("you have no key in %s; `kasbah key new` makes one. The SSH keys in ~/.ssh can be "+
					"used, too", home.IdentitiesFile())
			}
			for _, k := range mine {
				a.out().Printf("%s\n", k)
			}
			return nil
		},
	}
}
