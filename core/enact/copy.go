package enact

import (
	"context"
	"slices"
	"time"

	"kasbah/core/ledger"
	"kasbah/core/propose"
)

// copyGood is how long a copy made before counts as one of what is there now:
// a run that ended between copying and removing need not be followed by
// another copy, and one of days ago holds other data.
const copyGood = time.Hour

// copyFirst makes the copy of a thing that is to be removed, where its care
// asks for one. r is the record and is brought up to date.
func (e *executor) copyFirst(ctx context.Context, a *propose.Action, r *ledger.Record, id string) error {
	if !a.Plan.CopyFirst || id == "" {
		return nil
	}
	good := func(c ledger.Copy) bool { return c.Of == id && time.Since(c.At) < copyGood }
	if !slices.ContainsFunc(r.Copies, good) {
		c := e.newCall(a, remove, ledger.CallCopy)
		plan := *r
		c.intent.Thing, c.intent.Plan = id, &plan
		if err := e.perform(ctx, &c); err != nil {
			return err
		}
		now, err := e.runs[a.Ward].Record(a.Address)
		if err != nil {
			return err
		}
		r.Copies = now.Copies
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, c := range r.Copies {
		if good(c) {
			e.copies = append(e.copies, Copied{Ward: a.Ward, Address: a.Address, ID: c.ID})
		}
	}
	return nil
}

// copiesIn are the copies that were kept in a ward, for its ledger.
func (e *executor) copiesIn(ward string) []string {
	var out []string
	for _, c := range e.copies {
		if c.Ward == ward {
			out = append(out, c.Address+": "+c.ID)
		}
	}
	return out
}

// without are the copies of other things than one.
func without(all []ledger.Copy, of string) []ledger.Copy {
	return slices.DeleteFunc(slices.Clone(all), func(c ledger.Copy) bool { return c.Of == of })
}
