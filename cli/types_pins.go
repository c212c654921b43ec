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
	if a.json {
		return a.document(render.PinDocument{Format: "kasbah.pin/1", Driver: name, Version: pin.Version,
			Types: pin.Types})
	}
	a.out().Printf("pinned %s %s with %s\nwrote %s\n", name, pin.Version, render.Count(len(s.Catalogs[name].Types),
		"type"), strings.Join(wrote, ", "))
	return nil
}

// compareDriver shows how a driver differs from what is pinned.
func (a *app) compareDriver(s *session.Session, name string) error {
	pin, found, err := s.SincePinned(name)
	if err != nil {
		return err
	}
	d := render.CatalogueChanges{Format: "kasbah.catalogue-changes/1", Driver: name, Was: pin.Version,
		Is: s.Catalogs[name].Version, Changes: found}
	if d.Changes == nil {
		d.Changes = []schema.Difference{}
	}
	if a.json {
		return a.document(d)
	}
	a.out().CatalogueChanges(d)
	return nil
}
