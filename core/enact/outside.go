package enact

import (
	"context"
	"fmt"
	"sync"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// outside reads the ledgers of wards that are not part of the run. What they
// have is read once, under the run's own locks.
type outside struct {
	ledgers map[string]*ledger.Ledger

	mu     sync.Mutex
	states map[string]*ledger.State
}

func (o *outside) state(ctx context.Context, ward string) (*ledger.State, error) {
	if s := o.states[ward]; s != nil {
		return s, nil
	}
	l := o.ledgers[ward]
	if l == nil {
		return nil, value.ErrUnknown
	}
	s, err := l.Load(ctx)
	if err == nil {
		o.states[ward] = s
	}
	return s, err
}

// lookup answers for an attribute of a resource of another ward.
func (o *outside) lookup(ctx context.Context, ref value.Ref) (any, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	ward, short := value.SplitWard(ref.Address)
	s, err := o.state(ctx, ward)
	if err != nil {
		return nil, err
	}
	st := s.Records[short]
	if st == nil {
		return nil, value.ErrUnknown
	}
	r, err := st.Record()
	if err != nil {
		return nil, err
	}
	v, ok := r.At(ref.Path)
	if r.ID == "" || !ok {
		return nil, value.ErrUnknown
	}
	return v, nil
}

// manages is the address in ward under which its ledger records a thing.
func (o *outside) manages(ctx context.Context, ward, typ, id string) (string, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	s, err := o.state(ctx, ward)
	if err != nil {
		return "", err
	}
	return s.RecordedAs(typ, id), nil
}

// finder answers for things that are looked up: as the proposal found them,
// or now.
type finder struct {
	o Options
	e *executor

	things map[string]*propose.Found // by full address
	mu     sync.Mutex                // of what each holds: no Attributes when it is still to be looked up
}

// note takes over what the proposal found. An old proposal's look-ups are
// made again: what they find must still be the same.
func (f *finder) note(p *propose.Proposal, again bool) {
	for i := range p.Finds {
		found := p.Finds[i]
		if again || found.From == propose.FromLastRun {
			found.Attributes = nil
		}
		f.things[found.Full()] = &found
	}
}

// lookup answers for an attribute of a thing that is looked up.
func (f *finder) lookup(ctx context.Context, ref value.Ref, known func(value.Ref) (any, error)) (any, error) {
	found := f.things[ref.Address]
	if found == nil {
		return nil, value.ErrUnknown
	}
	f.mu.Lock()
	attributes := found.Attributes
	f.mu.Unlock()
	if attributes == nil {
		var err error
		if attributes, err = f.look(ctx, found, known); err != nil {
			return nil, err
		}
	}
	v, _ := ref.Path.At(map[string]any(attributes))
	return v, nil
}

func (f *finder) look(ctx context.Context, found *propose.Found, known func(value.Ref) (any, error)) (
	value.Attributes, error) {
	match, err := value.Resolve(map[string]any(found.Match), known)
	if err != nil {
		return nil, err
	}
	if value.IsPending(match) {
		return nil, value.ErrUnknown
	}
	drv, name := propose.SplitType(found.Type)
	c, d := f.o.Catalogs[drv], f.o.Drivers[drv]
	if c == nil || c.Types[name] == nil || d == nil {
		return nil, fmt.Errorf("there is no driver for %s", found.Type)
	}
	var things []driver.Live
	if things, err = d.Find(ctx, name, match.(value.Map)); err != nil {
		return nil, fmt.Errorf("looking up %s: %w", found.Address, err)
	}
	id, attributes, err := propose.SingleMatch(c.Types[name], things)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", found.Address, err)
	}
	for ward := range f.o.Ledgers {
		at, err := f.e.manages(ctx, ward, found.Type, id)
		if err != nil {
			return nil, err
		}
		if at != "" {
			return nil, fmt.Errorf("%s finds %s, which the estate manages as %s", found.Address, id,
				value.InWard(ward, at))
		}
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	found.ID, found.Attributes = id, attributes
	return attributes, nil
}

// manages is the address in ward under which a thing is recorded, or "".
func (e *executor) manages(ctx context.Context, ward, typ, id string) (string, error) {
	run := e.runs[ward]
	if run == nil {
		return e.outside.manages(ctx, ward, typ, id)
	}
	return run.RecordedAs(typ, id), nil
}

// of are the things found for a ward, for its ledger: what was not looked up
// in this run stays as it was.
func (f *finder) of(ward string, old ledger.Values) map[string]value.Attributes {
	f.mu.Lock()
	defer f.mu.Unlock()
	var out map[string]value.Attributes
	for _, found := range f.things {
		if found.Ward != ward {
			continue
		}
		attributes := found.Attributes
		if attributes == nil {
			attributes = old.Found[found.Address]
		}
		if attributes != nil {
			if out == nil {
				out = map[string]value.Attributes{}
			}
			out[found.Address] = attributes
		}
	}
	return out
}
