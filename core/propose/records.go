package propose

import (
	"runtime"

	"golang.org/x/sync/errgroup"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// records is what the ledgers record, by full address. Records are decoded
// when they are asked for: of what stays as it is, none is.
type records struct {
	states  map[string]*ledger.State  // by ward
	instead map[string]*ledger.Record // what unfinished calls and renames make of a record; nil for none
}

// stored is what is recorded, whatever takes its place here.
func (rs *records) stored(full string) *ledger.Stored {
	ward, short := value.SplitWard(full)
	if s := rs.states[ward]; s != nil {
		return s.Records[short]
	}
	return nil
}

func (rs *records) has(full string) bool {
	if r, ok := rs.instead[full]; ok {
		return r != nil
	}
	return rs.stored(full) != nil
}

// get is nil without an error when nothing is recorded.
func (rs *records) get(full string) (*ledger.Record, error) {
	if r, ok := rs.instead[full]; ok {
		return r, nil
	}
	st := rs.stored(full)
	if st == nil {
		return nil, nil
	}
	return st.Record()
}

func (rs *records) needs(full string) []string {
	if r := rs.instead[full]; r != nil {
		return r.Needs
	}
	if st := rs.stored(full); st != nil {
		return st.Needs
	}
	return nil
}

// set puts a record in place of what is recorded; nil takes it away.
func (rs *records) set(full string, r *ledger.Record) { rs.instead[full] = r }

// unchanged reports whether a declared resource stays as it is for reasons
// that need no look at its attributes: it is declared as it was when it was
// enacted, was then as declared, has not changed since, and what its inputs
// are made from has not either.
func (w *proposer) unchanged(n int32, full string, st *ledger.Stored) bool {
	if int(n) >= len(w.declared) || !w.alike[n] || w.dangling[full] || w.asked[full] || w.was[full] != "" {
		return false
	}
	if _, ok := w.recorded.instead[full]; ok {
		return false
	}
	if !w.liveAsRecorded(st) {
		return false
	}
	needs := w.g.Needs(n)
	// some of it is no resource of the proposed wards, and may change without them
	if len(needs) < len(w.declared[n].Needs) {
		return false
	}
	for _, m := range needs {
		if at := w.since[m]; at < 0 || at >= st.Seq {
			return false
		}
	}
	return true
}

// liveAsRecorded reports whether the cloud's tag shows a thing to be as it is recorded,
// outputs included. Offline it is.
func (w *proposer) liveAsRecorded(st *ledger.Stored) bool {
	if w.o.Live == nil {
		return true
	}
	l, ok := w.o.Live[st.Type][st.ID]
	return ok && st.Tag != "" && l.Tag == st.Tag
}

// match finds the records of what is declared, and notes which resources are
// declared as they were when they were enacted, on all the cores there are.
func (w *proposer) match() {
	all := w.declared
	w.stored, w.alike = make([]*ledger.Stored, len(all)), make([]bool, len(all))
	const chunk = 512
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for from := 0; from < len(all); from += chunk {
		g.Go(func() error {
			for i, d := range all[from:min(from+chunk, len(all))] {
				s := w.recorded.states[d.Ward]
				if s == nil {
					continue
				}
				if st := s.Records[d.Address]; st != nil {
					w.stored[from+i] = st
					w.alike[from+i] = st.Whole && st.Settled && !d.LooksBeyond() && d.Fingerprint().Is(st.Declared)
				}
			}
			return nil
		})
	}
	_ = g.Wait() // it never fails
}

// storedOf is what is recorded of a node.
func (w *proposer) storedOf(n int32) *ledger.Stored {
	if int(n) < len(w.stored) {
		return w.stored[n]
	}
	return w.recorded.stored(w.g.Name(n))
}

// costOfSame is what a resource costs that stays as it is.
func (w *proposer) costOfSame(full string, d *declare.Resource, typ *schema.Type) *Cost {
	was, ok := d.Price()
	if !ok {
		r, err := w.recorded.get(full)
		if err != nil {
			w.problems = append(w.problems, err)
		}
		if r == nil {
			return nil
		}
		if was, ok = typ.PriceOf(value.Map(r.Live)); !ok {
			return nil
		}
	}
	return &Cost{Was: was, WillBe: was}
}
