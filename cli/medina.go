package cli

import (
	"context"
	"errors"
	"flag"
	"os"
	"strings"

	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/drivers/openapi"
	"kasbah/medina"
	"kasbah/render"
)

// hand is a person's hand on Medina: the driver, and whom it acts for.
type hand struct {
	as    string
	api   string
	token string // the file it is in
	ca    string
	name  string // of the estate's driver
	at    medina.Settings
	*medina.Hand
}

func (h *hand) flags(fs *flag.FlagSet) {
	fs.StringVar(&h.as, "as", "", "`who` acts; you, when left out")
	fs.StringVar(&h.api, "api", "", "the `URL` of a Medina that runs on its own")
	fs.StringVar(&h.token, "token", "", "with -api: the `file` that holds your token")
	fs.StringVar(&h.ca, "ca", "", "with -api: a `file` of certificates to check its own against")
	fs.StringVar(&h.name, "driver", "", "the estate's driver of this `name`; the first one of kind medina")
}

// open finds the Medina of the estate, or the one at -api.
func (h *hand) open(ctx context.Context, a *app) error {
	if h.as == "" {
		h.as = a.acting()
	}
	var err error
	switch {
	case h.api != "":
		h.at = medina.Settings{API: h.api}
		if h.ca != "" {
			h.at.CA = a.path(h.ca)
		}
		if h.token != "" {
			h.at.Token = tokenFile(a.path(h.token))
		}
	case h.token != "" || h.ca != "":
		return problem.Usage("-token and -ca belong to -api; the estate's driver has them in kasbah.toml")
	default:
		if h.at, err = a.estatesMedina(ctx, h.name); err != nil {
			return err
		}
	}
	h.Hand, err = h.at.ByHand(ctx, h.as)
	return err
}

// tokenFile reads a token from a file, when it is first needed.
func tokenFile(path string) openapi.Credential {
	return func(context.Context, bool) (string, error) {
		body, err := os.ReadFile(path)
		return strings.TrimSpace(string(body)), err
	}
}

// estatesMedina are the settings of an estate's driver of kind medina: the one of
// that name, or the first.
func (a *app) estatesMedina(ctx context.Context, name string) (medina.Settings, error) {
	s, err := a.open(ctx, nil)
	if err != nil {
		return medina.Settings{}, err
	}
	return s.Medina(ctx, name)
}

// byHand completes a command that works on Medina by hand.
func byHand(c command, run func(ctx context.Context, a *app, h *hand, args []string) error) *command {
	h, own := &hand{}, c.Flags
	c.Estate = true
	c.Flags = func(fs *flag.FlagSet) {
		h.flags(fs)
		if own != nil {
			own(fs)
		}
	}
	c.Run = func(ctx context.Context, a *app, args []string) error {
		if err := h.open(ctx, a); err != nil {
			return err
		}
		return errors.Join(run(ctx, a, h, args), h.Driver.Close())
	}
	return &c
}

// showThing shows one thing, unless there was an error.
func (a *app) showThing(thing value.Attributes, err error) error {
	if err != nil {
		return err
	}
	return show(a, medina.NewItems(thing), func(o *render.Out, d *medina.Items) { o.Thing(thing) })
}

// firstOf is the first argument; "" for none.
func firstOf(args []string) string {
	if len(args) == 0 {
		return ""
	}
	return args[0]
}
