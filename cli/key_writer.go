package cli

import (
	"errors"
	"io/fs"

	"kasbah/home"
)

// keyWriterCommand prints the key that signs what the person writes.
func keyWriterCommand() *command {
	return &command{
		Name: "key writer", Short: "print the public key that signs what you write; makes one where there is none",
		Args: "",
		Long: "Prints the public key that signs your entries in the ledger. A person who may write lists it " +
			"with key admit -writer.",
		Examples: [2]string{"kasbah key writer", "kasbah key writer -json"},
		Takes:    noArguments(),
		Run: atHome(func(a *app, h *home.Home, _ []string) error {
			public, err := h.WriterPublic()
			made := errors.Is(err, fs.ErrNotExist)
			if made {
				public, err = h.NewWriter()
			}
			if err != nil {
				return err
			}
			if made {
				a.say("Made it and kept it in %s. `kasbah key admit NAME -writer PUBLIC` lists it in kasbah.toml.",
					h.WriterFile())
			}
			return a.showKeys(h.WriterFile(), public)
		}),
	}
}
