package cli

import (
	"context"
	"flag"
	"strings"

	"kasbah/core/problem"
	"kasbah/medina"
	"kasbah/render"
)

func medinaTokensCommand() *command {
	var name, revoke, rights, zones string
	return byHand(command{
		Name: "medina tokens", Short: "show, make and revoke tokens of a Medina that runs on its own", Args: "",
		Long: "Without flags it lists the tokens. A new token is shown once.",
		Examples: [2]string{"kasbah medina tokens -new keeper-2 -rights read",
			"kasbah medina tokens -new gauger -rights write -zones north-1,north-2"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&name, "new", "", "make a token of this `name`; it is shown this once")
			fs.StringVar(&rights, "rights", "write", "what it may do: read, write, or all, as faults and tokens are")
			fs.StringVar(&zones, "zones", "", "the `zones` in which it may change things, with commas between them; "+
				"all when left out")
			fs.StringVar(&revoke, "revoke", "", "take the token of this `name` away")
		},
		Takes: noArguments(),
	}, func(ctx context.Context, a *app, h *hand, _ []string) error {
		switch {
		case name != "" && revoke != "":
			return problem.Usage("it takes one of -new and -revoke")
		case name != "":
			t := medina.Token{Name: name, Rights: rights}
			if zones != "" {
				t.Zones = strings.Split(zones, ",")
			}
			t, err := h.at.NewToken(ctx, t)
			if err != nil {
				return err
			}
			return show(a, medina.NewTokenList(t), func(o *render.Out, _ *medina.TokenList) {
				o.Printf("%s\n", t.Token)
				a.say("that is the token %s; it is not shown again", t.Name)
			})
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
		return show(a, medina.NewTokenList(list...), func(o *render.Out, d *medina.TokenList) {
			o.Listing([]string{"name", "may", "in"}, d.Rows(), "This Medina has no tokens.")
		})
	})
}
