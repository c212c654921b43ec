package cli

import (
	"kasbah/home"
	"kasbah/render"
)

// namesDocument is the JSON form of the names of kept credentials.
type namesDocument struct {
	Format string   `json:"format"`
	Names  []string `json:"names"`
}

func keyListCommand() *command {
	return &command{
		Name: "key list", Short: "list the credentials that are kept here, without their texts", Args: "",
		Long:     "Lists the names of kept credentials. It shows no texts.",
		Examples: [2]string{"kasbah key list", "kasbah key list -json"},
		Takes:    noArguments(),
		Run: atHome(func(a *app, h *home.Home, _ []string) error {
			names, err := h.Credentials()
			if err != nil {
				return err
			}
			return show(a, namesDocument{"kasbah.credentials/1", append([]string{}, names...)},
				func(o *render.Out, d namesDocument) {
					for _, n := range d.Names {
						o.Printf("%s\n", n)
					}
				})
		}),
	}
}
