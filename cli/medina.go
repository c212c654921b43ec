package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"

	"kasbah/core/value"
	"kasbah/medina"
	"kasbah/render"
	"kasbah/session"
)

// hand is a person's hand on Medina.
type hand struct {
	session.HandRequest
	at medina.Settings
	*medina.Hand
}

func (h *hand) flags(fs *flag.FlagSet) {
	fs.StringVar(&h.As, "as", "", "`who` acts; you, when left out")
	fs.StringVar(&h.API, "api", "", "the `URL` of a Medina that runs on its own")
	fs.StringVar(&h.Token, "token", "", "with -api: the `file` that holds your token")
	fs.StringVar(&h.CA, "ca", "", "with -api: a `file` of certificates to check its own against")
	fs.StringVar(&h.Named, "driver", "", "the estate's driver of this `name`; the first one of kind medina")
}

// open finds the Medina of the estate, or the one at -api.
func (h *hand) open(ctx context.Context, a *app) (err error) {
	h.As, h.Path = cmp.Or(h.As, a.acting()), a.path
	h.at, h.Hand, err = session.MedinaByHand(ctx, h.HandRequest, func() (*session.Session, error) {
		return a.open(ctx,
			nil)
	})
	return err
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
