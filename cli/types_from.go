package cli

import (
	"context"
	"errors"

	"kasbah/render"
	"kasbah/session"
)

// typesFrom says what an OpenAPI document offers to a driver.
func (a *app) typesFrom(ctx context.Context, file string, overlays []string, draft bool, probe string) error {
	for i := range overlays {
		overlays[i] = a.path(overlays[i])
	}
	offer, overlay, err := session.Examine(ctx, a.config(a.env, nil), a.path(file), overlays, probe)
	switch {
	case err != nil:
		return err
	case draft && overlay == nil:
		return errors.New("there is nothing to draft: every collection of the document that can be a type is one")
	case draft:
		a.out().Printf("%s", overlay)
		return nil
	}
	return show(a, render.OfferDocument{Format: "kasbah.offer/1", Offer: offer},
		func(o *render.Out, d render.OfferDocument) { o.Offer(file, d.Offer) })
}
