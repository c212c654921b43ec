package cli

import (
	"context"
	"flag"
	"strings"

	"kasbah/core/problem"
	"kasbah/medina"
	"kasbah/render"
)

// tokensDocument is the JSON form of a Medina's tokens.
type tokensDocument struct {
	Format string         `json:"format"`
	Items  []medina.Token `json:"items"`
}

func medinaTokensCommand() *command {
	var make, revoke, rights, zones string
	return medinaCommand(command{
		Name: "medina tokens", Short: "show, make and revoke tokens of a Medina that runs on its own", Args: "",
		Long: "Without flags it lists the tokens. A new token is shown once.",
		Examples: [2]string{"kasbah medina tokens -new keeper-2 -rights read",
			"kasbah medina tokens -new gauger -rights write -zones north-1,north-2"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&make, "new", "", "make a token of this `name`; it is shown this once")
			fs.StringVar(&rights, "rights", "write", "what it may do: read, write, or all, as faults and tokens are")
			fs.StringVar(&zones, "zones", "", "the `zones` in which it may change things, with commas between them; "+
				"all when left out")
			fs.StringVar(&revoke, "revoke", "", "take the token of this `name` away")
		},
	}, 0, 0,
		func(ctx context.Context, a *app, h *hand, _ []string) error {
			switch {
			case make != "" && revoke != "":
				return problem.Usage("it takes one of -new and -revoke")
			case make != "":
				t := medina.Token{Name: make, Rights: rights}
				if zones != "" {
					t.Zones = strings.Split(zones, ",")
				}
				t, err := h.at.NewToken(ctx, t)
				if err != nil {
					return err
				}
				if a.json {
					return a.document(tokensDocument{"kasbah.medina-tokens/1", []medina.Token{t}})
				}
				a.out().Printf("%s\n", t.Token)
				a.say("that is the token %s; it is not shown again", t.Name)
				return nil
			case revoke != "":
				if err := h.at.RevokeToken(ctx, revoke); err != nil {
					return err
				}
				a.say("revoked %s", revoke)
			}
			list, err := h.at.ListTokens(ctx)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(tokensDocument{"kasbah.medina-tokens/1", list})
			}
			if len(list) == 0 {
				a.out().Printf("This Medina has no tokens.\n")
				return nil
			}
			rows := [][]string{{"name", "may", "in"}}
			for _, t := range list {
				in := "all zones"
				if len(t.Zones) > 0 {
					in = strings.Join(t.Zones, ", ")
				}
				rows = append(rows, []string{render.Clean(t.Name), t.Rights, in})
			}
			a.out().Table(rows, a.out().HeadGrey)
			return nil
		})
}
