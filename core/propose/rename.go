package propose

import (
	"fmt"
	"slices"

	"kasbah/core/declare"
	"kasbah/core/graph"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/value"
)

// namesNothing notes a former address under which nothing is recorded: it may be
// mistyped, and then a new thing is made and the old one dropped.
func (w *proposer) namesNothing(d *declare.Resource) {
	former := d.Former[0]
	ward, short := value.SplitWard(former)
	s := w.recorded.states[ward]
	if s == nil || len(s.Records) == 0 || w.o.Declared.Resource(former) != nil {
		return // nothing at all is recorded yet, or a resource of that name is declared
	}
	var alike []string
	for a, st := range s.Records {
		if st.Type == d.FullType() && w.o.Declared.Resource(value.InWard(ward, a)) == nil {
			alike = append(alike, a)
		}
	}
	text := fmt.Sprintf("%s: care has renamed_from = %q, and nothing is recorded under that address", d.Full(),
		value.Ref{Address: former}.In(d.Ward))
	if near := nearest.To(short, alike); near != "" {
		text += fmt.Sprintf("; did you mean %q?", near)
	} else if len(alike) == 1 {
		text += fmt.Sprintf("; %q is recorded and not declared", alike[0])
	}
	w.p.Warnings = append(w.p.Warnings, text)
}

// renames finds the records of what was renamed, and takes them as records of
// what it is called now.
func (w *proposer) renames() error {
	for _, d := range w.o.Declared.Resources {
		full := d.Full()
		if len(d.Former) == 0 || w.recorded.has(full) {
			continue // what was renamed before changes nothing
		}
		found := false
		for _, former := range d.Former {
			ward, short := value.SplitWard(former)
			if !slices.Contains(w.o.Wards, ward) {
				if err := w.recordedElsewhere(full, ward, short); err != nil {
					return err
				}
				found = true // or not; that ward's ledger is not looked through
				continue
			}
			r, err := w.recorded.get(former)
			if err != nil {
				return err
			}
			if r == nil || w.o.Declared.Resource(former) != nil || r.Type != d.FullType() {
				continue
			}
			w.was[full] = former
			w.recorded.set(full, r)
			w.recorded.set(former, nil)
			if w.dangling[former] {
				w.dangling[full] = true
				delete(w.dangling, former)
			}
			found = true
			break
		}
		if !found {
			w.namesNothing(d)
		}
	}
	if len(w.was) == 0 {
		return nil
	}
	now := make(map[string]string, len(w.was))
	for full, former := range w.was {
		now[former] = full
	}
	rename := func(full string) {
		old, err := w.recorded.get(full)
		if err != nil {
			w.problems = append(w.problems, err)
		}
		if old == nil || !slices.ContainsFunc(old.Needs, func(n string) bool { return now[n] != "" }) {
			return
		}
		r := *old
		r.Needs = slices.Clone(old.Needs)
		for i, n := range r.Needs {
			if is := now[n]; is != "" {
				r.Needs[i] = is
			}
		}
		w.recorded.set(full, &r)
	}
	for ward, s := range w.recorded.states {
		for a, st := range s.Records {
			if slices.ContainsFunc(st.Needs, func(n string) bool { return now[n] != "" }) {
				rename(value.InWard(ward, a))
			}
		}
	}
	for full := range w.was {
		rename(full)
	}
	return nil
}

// recordedElsewhere blocks a rename from a ward that is not part of this.
func (w *proposer) recordedElsewhere(full, ward, short string) error {
	if w.o.Outside == nil {
		return nil
	}
	s, err := w.o.Outside(ward)
	if err != nil || s.Records[short] == nil {
		return err
	}
	d := w.o.Declared.Resource(full)
	pos, _ := d.At("care")
	w.p.Blocked = append(w.p.Blocked, Block{Ward: d.Ward, Address: d.Address, Position: pos,
		Because: fmt.Sprintf("it was %s in ward %s, which is not part of this; take both wards together", short, ward)})
	return nil
}

// usersOfRenamed are what needs the renamed ones among some resources: their
// records are to name what they need as it is called now.
func (w *proposer) usersOfRenamed(g *graph.Graph, of []int32) []int32 {
	var out []int32
	for n, in := range g.Down(of...) {
		if in && w.was[g.Name(int32(n))] != "" {
			out = append(out, g.Users(int32(n))...)
		}
	}
	return out
}

// movedAway deals with what a run that ended in the middle of a rename between
// wards has left: two ledgers that know one thing.
func (w *proposer) movedAway(a *Action, r *ledger.Record) bool {
	if r.MovingTo == "" {
		return false
	}
	ward, short := value.SplitWard(r.MovingTo)
	var there *ledger.Record
	if slices.Contains(w.o.Wards, ward) {
		var err error
		if there, err = w.recorded.get(r.MovingTo); err != nil {
			w.problems = append(w.problems, err)
			return true
		}
	} else if w.o.Outside != nil {
		s, err := w.o.Outside(ward)
		if err == nil && s.Records[short] != nil {
			there, err = s.Records[short].Record()
		}
		if err != nil {
			w.problems = append(w.problems, err)
			return true
		}
	}
	if there == nil || there.Type != r.Type || there.ID != r.ID {
		return false
	}
	a.Kind, a.Because = Release, "it is "+r.MovingTo+" now"
	return true
}

// renamedAway forbids dropping what another ward, which is not part of this,
// says that it has taken over.
func (w *proposer) renamedAway() error {
	if w.o.RenamedAway == nil || !slices.ContainsFunc(w.p.Actions, (*Action).Leaves) {
		return nil
	}
	now, err := w.o.RenamedAway()
	if err != nil {
		return err
	}
	for _, a := range w.p.Actions {
		if to := now[a.Full()]; a.Leaves() && to != "" {
			ward, short := value.SplitWard(to)
			w.p.Blocked = append(w.p.Blocked, Block{Ward: a.Ward, Address: a.Address,
				Because: fmt.Sprintf("ward %s declares it as %s, and is not part of this; take both wards together",
					ward, short)})
		}
	}
	return nil
}
