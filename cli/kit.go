package cli

import (
	"context"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/render"
	"kasbah/session"
)

func newKitDoc(k *declare.Kit, src estate.KitSource, pins *estate.Pins) render.KitDoc {
	d := render.KitDoc{Name: k.Name, Version: k.Version, Help: k.Help, Source: src.String(), Drivers: k.Drivers,
		Kits: k.Kits}
	if d.Drivers == nil {
		d.Drivers = []string{}
	}
	if d.Kits == nil {
		d.Kits = []string{}
	}
	if pin := pins.Of(k.Name, src.String()); pin != nil {
		d.Commit, d.Digest = pin.Commit, pin.Digest
	}
	if k.Err != nil {
		d.Problem = k.Err.Error()
	}
	return d
}

// kitNamed is one of the estate's kits, usable.
func kitNamed(o declare.Options, name string) (*declare.Kit, error) {
	k := o.Kits[name]
	switch {
	case k == nil:
		hint := nearest.Hint(name, value.Keys(o.Kits))
		if hint == "" && len(o.Kits) > 0 {
			hint = "there is " + joinOr(value.Keys(o.Kits))
		}
		return nil, &problem.UsageError{Message: "kasbah.toml names no kit " + name + " under [kits]", Hint: hint}
	case k.Err != nil:
		return nil, problem.At(o.Estate.Kits(o.Env)[name].Position, "kit %s: %v", name, k.Err)
	}
	return k, nil
}

// kitOptions is what the evaluation of kits needs: from the estate around, or
// from a bare one with Medina when a kit stands alone.
func (a *app) kitOptions(ctx context.Context) (*session.Session, declare.Options, error) {
	var s *session.Session
	var err error
	if _, outside := estate.Find(a.dir); outside == nil {
		s, err = a.openAny(ctx, nil)
	} else {
		s, err = session.OpenKit(ctx, a.config("", nil))
		a.closeLater(s)
	}
	if err != nil {
		return nil, declare.Options{}, err
	}
	o, err := s.Options(ctx, s.Others())
	return s, o, err
}
