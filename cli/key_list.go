package cli

import (
	"context"
)

func keyListCommand() *command {
	return &command{
		Name: "key list", Short: "list the credentials that are kept here, without their texts", Args: "",
		Long:     "Lists the names of kept credentials. It shows no texts.",
		Examples: [2]string{"kasbah key list", "kasbah key list -json"},
		Takes:    noArguments(),
		Run: func(_ context.Context, a *app, _ []string) error {
			home, err := a.home()
			if err != nil {
				return err
			}
			names, err := home.Credentials()
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.credentials/1", "names": append([]string{},
					names...)})
			}
			for _, n := range names {
				a.out().Printf("%s\n", n)
			}
			return nil
		},
	}
}
