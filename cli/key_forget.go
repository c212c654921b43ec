package cli

import (
	"context"
	"errors"
	"io/fs"

	"kasbah/core/nearest"
	"kasbah/core/problem"
)

func keyForgetCommand() *command {
	return &command{
		Name: "key forget", Short: "remove a credential that is kept here", Args: "NAME",
		Long:     "Deletes a kept credential from this machine.",
		Examples: [2]string{"kasbah key forget ledger-password", "kasbah key forget beacon-token"},
		Takes:    exactly(1, "one name"),
		Run: func(_ context.Context, a *app, args []string) error {
			home, err := a.home()
			if err != nil {
				return err
			}
			err = home.Forget(args[0])
			if errors.Is(err, fs.ErrNotExist) {
				names, listErr := home.Credentials()
				if listErr != nil {
					return listErr
				}
				return &problem.UsageError{Message: "no credential is called " + args[0], Hint: nearest.Hint(args[0],
					names)}
			}
			return err
		},
	}
}
