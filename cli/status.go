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
	e, err := session.FindEstate(a.dir)
	if err != nil {
		return err
	}
	d := ledger.Status{Format: "kasbah.status/1", Estate: e.Name, Wards: []ledger.WardStatus{}}
	var notes []string
	for _, env := range e.Environments() {
		s, err := a.openWith(ctx, a.config(env, nil))
		if err != nil {
			return err
		}
		wards, note, err := s.Status(ctx)
		if err != nil {
			return err
		}
		d.Wards = append(d.Wards, wards...)
		if note != "" {
			notes = append(notes, note)
		}
	}
	return show(a, d, func(o *render.Out, d ledger.Status) {
		o.Status(d.Wards)
		for _, n := range notes {
			o.Printf("note: %s\n", render.Wrap(n, o.Width-6, "      "))
		}
	})
}
