package cli

import (
	"context"
	"errors"
	"io/fs"
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
		Run: func(_ context.Context, a *app, _ []string) error {
			home, err := a.home()
			if err != nil {
				return err
			}
			public, err := home.WriterPublic()
			made := errors.Is(err, fs.ErrNotExist)
			if made {
				public, err = home.NewWriter()
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.key/1", "file": home.WriterFile(),
					"public": []string{public}})
			}
			a.out().Printf("%s\n", public)
			if made {
				a.say("Made it and kept it in %s. `kasbah key admit NAME -writer PUBLIC` lists it in kasbah.toml.",
					home.WriterFile())
			}
			return nil
		},
	}
}
