package cli

import (
	"errors"
	"io/fs"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/home"
)

func keyForgetCommand() *command {
	return &command{
		Name: "key forget", Short: "remove a credential that is kept here", Args: "NAME",
		Long:     "Deletes a kept credential from this machine.",
		Examples: [2]string{"kasbah key forget ledger-password", "kasbah key forget beacon-token"},
		Takes:    exactly(1, "one name"),
		Run: atHome(func(a *app, h *home.Home, args []string) error {
			err := h.Forget(args[0])
			if errors.Is(err, fs.ErrNotExist) {
				names, listErr := h.Credentials()
				if listErr != nil {
					return listErr
				}
				return &problem.UsageError{Message: "no credential is called " + args[0], Hint: nearest.Hint(args[0],
					names)}
			}
			return err
		}),
	}
}
