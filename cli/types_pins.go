package cli

import (
	"strings"

	"kasbah/core/schema"
	"kasbah/render"
	"kasbah/session"
)

// pinDriver pins what a driver offers now.
func (a *app) pinDriver(s *session.Session, name string) error {
	pin, wrote, err := s.Pin(name)
	if err != nil {
		return err
	}
	d := render.PinDocument{Format: "kasbah.pin/1", Driver: name, Version: pin.Version, Types: pin.Types}
	return show(a, d, func(o *render.Out, d render.PinDocument) {
		o.Printf("pinned %s %s with %s\nwrote %s\n", name, d.Version, render.Count(len(s.Catalogs[name].Types), "type"),
			strings.Join(wrote, ", "))
	})
}

// compareDriver shows how a driver differs from what is pinned.
func (a *app) compareDriver(s *session.Session, name string) error {
	pin, found, err := s.SincePinned(name)
	if err != nil {
		return err
	}
	return show(a, render.CatalogueChanges{Format: "kasbah.catalogue-changes/1", Driver: name, Was: pin.Version,
		Is: s.Catalogs[name].Version, Changes: append([]schema.Difference{}, found...)}, (*render.Out).CatalogueChanges)
}
