package cli

import (
	"context"

	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/render"
	"kasbah/session"
)

// bare is `kasbah` without a command: how the estate stands, or the overview
// outside of one.
func (a *app) bare(ctx context.Context) error {
	if err := a.prepareOutput(); err != nil {
		return err
	}
	if _, err := estate.Find(a.dir); err != nil {
		if a.json {
			return err
		}
		return a.overview()
	}
	d, notes, err := session.EstateStatus(ctx, a.config("", nil))
	if err != nil {
		return err
	}
	return show(a, d, func(o *render.Out, d ledger.Status) {
		o.Status(d.Wards)
		for _, n := range notes {
			o.Printf("note: %s\n", render.Wrap(n, o.Width-6, "      "))
		}
	})
}
