package enact

import (
	"context"
	"errors"
	"fmt"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Outputs move while nobody edits anything. A run takes what is live into its records
// before it judges by them, before a step uses what the run itself may have moved, and
// before it publishes.

// watch notes whose outputs the run uses or publishes, so that they are read again once
// something that refers to them has changed.
func (e *executor) watch(ctx context.Context) {
	note := func(r value.Ref) {
		if e.outputOf(ctx, r) {
			e.watched[r.Address] = true
		}
	}
	for _, a := range e.p.Actions {
		if a.Plan != nil {
			value.Refs(map[string]any(a.Plan.Inputs), note)
		}
	}
	for _, w := range e.p.Wards {
		for _, v := range w.Published {
			value.Refs(v.V, note)
		}
	}
}

// outputOf reports whether a reference is to something that the cloud decides and may
// decide again: any output but what identifies the thing.
func (e *executor) outputOf(ctx context.Context, r value.Ref) bool {
	if len(r.Path) == 0 || value.IsFound(r.Address) {
		return false
	}
	rec, err := e.anyRecord(ctx, r.Address)
	if err != nil || rec == nil {
		return true // it is to be made in this run, maybe
	}
	t := e.typ(rec.Type)
	if t == nil {
		return false
	}
	a := t.Attribute(r.Path[0].Key)
	return a != nil && a.Output && a.Name != t.ID
}

// stir notes, once a step is done, whose outputs may have moved.
func (e *executor) stir(a *propose.Action) {
	if len(e.watched) == 0 {
		return
	}
	needs := a.Needs
	if a.Plan.Seen != nil {
		needs = append(needs[:len(needs):len(needs)], a.Plan.Seen.Needs...)
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, n := range needs {
		if e.watched[n] {
			e.stirred[n] = true
		}
	}
}

// refreshUsed reads again what a step uses and the run may have moved.
func (e *executor) refreshUsed(ctx context.Context, inputs value.Map) error {
	if len(e.watched) == 0 {
		return nil
	}
	var again []string
	value.Refs(inputs, func(r value.Ref) {
		e.mu.Lock()
		defer e.mu.Unlock()
		if e.stirred[r.Address] && e.outputOf(ctx, r) {
			delete(e.stirred, r.Address)
			again = append(again, r.Address)
		}
	})
	for _, full := range again {
		if err := e.refresh(ctx, full); err != nil {
			return fmt.Errorf("%s could not be read again: %w", full, err)
		}
	}
	return nil
}

// anyRecord is the newest record of an address, in the run or outside of it.
func (e *executor) anyRecord(ctx context.Context, full string) (*ledger.Record, error) {
	ward, address := value.SplitWard(full)
	if e.runs[ward] != nil {
		return e.recordOf(full, e.was[full])
	}
	if e.o.Ledgers[ward] == nil {
		return nil, nil
	}
	s, err := e.state(ctx, ward)
	if err != nil || s.Records[address] == nil {
		return nil, err
	}
	return s.Records[address].Record()
}

// refresh takes what is live of a resource into its record, or where the run may not
// write it, into what it looks up.
func (e *executor) refresh(ctx context.Context, full string) error {
	r, err := e.anyRecord(ctx, full)
	if err != nil || r == nil || r.ID == "" || e.unshown(r.Type) {
		return err
	}
	drv, typ := propose.SplitType(r.Type)
	d, t := e.o.Drivers[drv], e.typ(r.Type)
	if d == nil || t == nil {
		return fmt.Errorf("there is no driver for %s", r.Type)
	}
	live, err := d.Read(ctx, typ, r.ID)
	if errors.Is(err, driver.ErrGone) {
		return nil // who uses it finds out
	}
	if err != nil {
		return err
	}
	ward, _ := value.SplitWard(full)
	next := *r
	next.Tag, next.Seen = live.Tag, e.o.Run
	e.take(&next, ward, live.Attributes)
	if next.Tag == r.Tag && sameLive(t, r, &next) {
		return nil
	}
	if run := e.runs[ward]; run != nil && run.Scope().Sees(next.Address) {
		return run.Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: ledger.NoteSeen,
			Record: &next}})
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.seenNow[full] = &next
	return nil
}

func sameLive(t *schema.Type, a, b *ledger.Record) bool {
	for _, at := range t.Attributes {
		if !value.Equal(a.Live[at.Name], b.Live[at.Name]) || !value.Equal(a.Hidden[at.Name], b.Hidden[at.Name]) {
			return false
		}
	}
	return true
}
