package propose

import (
	"fmt"
	"maps"
	"slices"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// renewed is what is live and what is recorded, with another secret in place of
// those that were renewed since: that is no edit by hand.
func (w *proposer) renewed(d *declare.Resource, r *ledger.Record, live value.Map) (now, recorded value.Map) {
	now, recorded = live, value.Map(r.Inputs)
	some := false
	for name, v := range d.Inputs() {
		if !value.IsSecret(v) {
			continue
		}
		text, err := value.Resolve(v, w.reveal)
		if err != nil || value.IsPending(text) || value.Equal(text, r.Hidden[name]) {
			continue // what is not known yet is compared by where it comes from
		}
		if !some {
			some, now, recorded = true, maps.Clone(live), maps.Clone(recorded)
		}
		now[name], recorded[name] = ledger.AnotherSecret(), ledger.AnotherSecret()
	}
	return now, recorded
}

// reveal is lookup, secrets included. What it answers is compared and never
// shown.
func (w *proposer) reveal(ref value.Ref) (any, error) {
	if name, ok := value.SecretName(ref.Address); ok {
		if w.o.Secret == nil {
			return nil, value.ErrUnknown
		}
		text, err := w.o.Secret(name)
		if err != nil {
			return nil, value.ErrUnknown
		}
		return text, nil
	}
	if !ref.Secret {
		return w.lookup(ref)
	}
	a := w.decided(ref.Address)
	r, err := w.recorded.get(ref.Address)
	if err != nil {
		return nil, err
	}
	if r == nil || w.dangling[ref.Address] || a != nil && a.Kind != Same && a.Kind != Adopt {
		return nil, value.ErrUnknown
	}
	v, ok := r.At(ref.Path)
	if !ok {
		return nil, value.ErrUnknown
	}
	return v, nil
}

// secrets forbids what would have to record a secret in a ledger that is not
// sealed: what is made from one, and what the cloud makes.
func (w *proposer) secrets() {
	if w.o.Sealed {
		return
	}
	for _, a := range w.p.Actions {
		if a.Plan == nil || a.Leaves() || a.Kind == Same || a.Kind == Rename {
			continue
		}
		var held []string
		for name, v := range a.Plan.Inputs {
			if value.IsSecret(v) {
				held = append(held, name+" is made from a secret")
			}
		}
		slices.Sort(held)
		drv, name := SplitType(a.Type)
		if t := w.o.Catalogs[drv].Types[name]; t != nil {
			for _, at := range t.Attributes {
				if at.Secret && at.Output {
					held = append(held, at.Name+" is a secret that the cloud makes")
				}
			}
		}
		if held != nil {
			w.p.Blocked = append(w.p.Blocked, Block{Ward: a.Ward, Address: a.Address, Position: a.Position,
				Because: fmt.Sprintf("%s, and the ledger is not sealed to record it; `kasbah key estate` prints what "+
					"seals it", joinAnd(held))})
		}
	}
}
