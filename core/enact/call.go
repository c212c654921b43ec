package enact

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// errUnclear marks a call whose end is not known: its intent stays open, and
// the next run finds out.
var errUnclear = errors.New("its end is not known; the next run finds out")

// errUntold marks one of which no look can tell either.
var errUntold = errors.New("no look can tell")

// unclearError is the error of a call whose end is not known, with what is to be done.
type unclearError struct {
	err  error
	next string
}

func (e *unclearError) Error() string   { return e.err.Error() + ": " + e.next }
func (e *unclearError) Unwrap() []error { return []error{e.err, errUnclear} }

// unclearEnd is the error of a call of a run whose end is not known.
func unclearEnd(c *call, run string, err error) error {
	next := errUnclear.Error()
	if errors.Is(err, errUntold) {
		next = fmt.Sprintf("its outcome is not known, and only a person can find out; tell it with `kasbah lock "+
			"recover %s -made %s=ID` (or =none)", run, value.InWard(c.run.Ward(), c.intent.Address))
	}
	return &unclearError{err, next}
}

// untold marks the error of a call of which no look can tell.
type untold struct{ error }

func (e untold) Unwrap() error     { return e.error }
func (e untold) Is(err error) bool { return err == errUntold }

// tagTries is how often a call is made again because the thing's tag moved
// without anything that counts having moved.
const tagTries = 3

// call is one call to the cloud and how the record changes.
type call struct {
	run    *ledger.Run
	within time.Duration // how long the cloud may take
	drv    driver.Driver
	typ    string // without its driver
	intent ledger.Intent
	made   func(driver.Live) // told of what the call made; may be nil
	step   string            // that makes the call
	before *ledger.Record    // before the call; nil when there was none
	lost   bool              // a try may have had its effect, now or later
	sent   time.Time         // of the newest such try
	thing  string            // id of what such a try made; "" where nobody knows
	// counts are the attributes whose change by another person or program forbids the
	// call, as they were seen; secrets as the record before the call has them.
	counts value.Map
	leave  []value.Path // what others own: it never counts, and is sent as they have it
}

// carryOut does a step. Its error holds no secret.
func (e *executor) carryOut(ctx context.Context, s *step) error { return e.redacted(e.half(ctx, s)) }

// half does half of an action, or all of one that has only one.
func (e *executor) half(ctx context.Context, s *step) error {
	a := s.action
	e.mu.Lock()
	skip := e.skipped[a.Full()]
	e.mu.Unlock()
	if skip {
		return nil
	}
	if _, err := e.typeOf(a); err != nil {
		return err
	}
	switch s.half {
	case remove:
		return e.remove(ctx, a)
	case letGo:
		return e.letGo(ctx, a)
	case release:
		return e.release(ctx, a)
	case rename:
		return e.rename(ctx, a)
	case adopt:
		return e.adopt(ctx, a)
	}
	if err := e.refreshUsed(ctx, value.Map(a.Plan.Inputs)); err != nil {
		return err
	}
	v, err := value.Resolve(map[string]any(a.Plan.Inputs), e.lookupIn(ctx))
	if err != nil {
		return err
	}
	if value.IsPending(v) {
		return fmt.Errorf("it needs %s, which is still not known", firstPending(v))
	}
	inputs, err := e.checked(a, v.(map[string]any))
	if err != nil {
		return err
	}
	if err := e.judgeAgain(ctx, a, withoutSecrets(a, inputs)); err != nil {
		return err
	}
	if s.half == edit {
		return e.edit(ctx, a, inputs)
	}
	return e.make(ctx, a, inputs)
}

// release stops managing a thing.
func (e *executor) release(ctx context.Context, a *propose.Action) error {
	c := e.newCall(a, release, "release")
	before, err := c.run.Record(a.Address)
	if err != nil {
		return err
	}
	if err := c.run.Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: ledger.NoteReleased,
		Dropped: a.Address}}); err != nil {
		return e.broke(err)
	}
	e.noteCall(&madeCall{call: c, before: before})
	return nil
}

// judgeEarly judges a swap that drops first, before anything is dropped, when
// what is to be made is known already.
func (e *executor) judgeEarly(ctx context.Context, a *propose.Action) error {
	if a.Kind != propose.Swap || a.Plan.Order != "drop-first" {
		return nil
	}
	v, err := value.Resolve(map[string]any(a.Plan.Inputs), e.lookupIn(ctx))
	if err != nil || value.IsPending(v) {
		return err
	}
	return e.judgeAgain(ctx, a, withoutSecrets(a, v.(map[string]any)))
}

func firstPending(v any) string {
	var name string
	value.Refs(v, func(r value.Ref) {
		if name == "" {
			name = r.String()
		}
	})
	return name
}

func (e *executor) typeOf(a *propose.Action) (*schema.Type, error) {
	drv, typ := propose.SplitType(a.Type)
	if c := e.o.Catalogs[drv]; c != nil && c.Types[typ] != nil && e.o.Drivers[drv] != nil {
		return c.Types[typ], nil
	}
	return nil, fmt.Errorf("there is no driver for %s", a.Type)
}

// checked holds resolved inputs against the schema: values that were not
// known at proposing may break it.
func (e *executor) checked(a *propose.Action, inputs value.Map) (value.Map, error) {
	typ, err := e.typeOf(a)
	if err != nil {
		return nil, err
	}
	inputs, faults := typ.Check(inputs)
	if len(faults) > 0 {
		problems := make([]driver.Problem, len(faults))
		for i, f := range faults {
			problems[i] = driver.Problem{Path: f.Path.String(), Message: f.Message}
		}
		return nil, &driver.Error{Message: faults[0].Message, Problems: problems, NotDone: true}
	}
	return inputs, nil
}

// record is what is to be recorded once a thing is as intended. It builds on
// the record as it is now: an earlier half of the action may have moved it.
func (e *executor) record(a *propose.Action, inputs value.Map) (*ledger.Record, error) {
	r := &ledger.Record{
		Address: a.Address, Type: a.Type, DriverVersion: a.Plan.DriverVersion, Inputs: inputs, Needs: a.Needs,
		Care: a.Plan.Care, Kit: a.Plan.Kit, Version: 1, Changed: now(), Run: e.o.Run, Declared: a.Plan.Declared,
	}
	old, err := e.runs[a.Ward].Record(a.Address)
	if err != nil {
		return nil, err
	}
	if old != nil {
		r.Version, r.ID, r.Leftovers = old.Version+1, old.ID, old.Leftovers
	}
	r.Hide(value.Map(a.Plan.Inputs))
	return r, nil
}

func (e *executor) newCall(a *propose.Action, h half, kind string) call {
	drv, typ := propose.SplitType(a.Type)
	in := ledger.Intent{Address: a.Address, Type: a.Type, Action: string(a.Kind), Call: kind}
	if a.Kind == propose.Swap || h == letGo {
		in.Half = string(h)
	}
	return call{
		step: key(a.Full(), h), run: e.runs[a.Ward], within: e.timeout(a.Plan.Care), drv: e.o.Drivers[drv], typ: typ,
		intent: in,
		leave:  a.Plan.Care.Leave,
	}
}

// timeout is how long one call may take: as the resource's care
// says, or the run.
func (e *executor) timeout(c schema.Care) time.Duration {
	if c.Timeout > 0 {
		return time.Duration(c.Timeout)
	}
	return e.o.Timeout
}

// make creates a thing. In a create-first swap the old one becomes a
// leftover with the same result.
func (e *executor) make(ctx context.Context, a *propose.Action, inputs value.Map) error {
	c := e.newCall(a, create, "create")
	c.intent.Inputs = inputs
	plan, err := e.record(a, inputs)
	if err != nil {
		return err
	}
	plan.ID = ""
	if s := a.Plan.Seen; a.Kind == propose.Swap && s.ID != "" && a.Plan.Order != "drop-first" {
		typ, err := e.typeOf(a)
		if err != nil {
			return err
		}
		if !a.Plan.Asked && !needsSwap(typ, inputs, a.Plan.Seen) {
			return e.sameAfterAll(a)
		}
		plan.Leftovers = append(append([]ledger.Leftover(nil), plan.Leftovers...), ledger.Leftover{ID: s.ID,
			Type: a.Type, Tag: s.Tag, Inputs: s.Inputs})
	} else if a.Kind == propose.New {
		plan.Leftovers = nil
	}
	c.intent.Plan = plan
	return e.perform(ctx, &c)
}

// needsSwap reports whether a swap still has a reason now that every value is
// known: a fixed attribute differs.
func needsSwap(t *schema.Type, inputs value.Map, s *propose.Seen) bool {
	if s.Live == nil {
		return true
	}
	for name, v := range inputs {
		if a := t.Attribute(name); a != nil && a.Fixed && !value.IsSecret(s.Live[name]) && propose.ValuesDiffer(v,
			s.Live[name]) {
			return true
		}
	}
	return false
}

// sameAfterAll skips an action that turned out to change nothing that its
// proposal showed. A swap that would now be an edit was not shown as one.
func (e *executor) sameAfterAll(a *propose.Action) error {
	for _, c := range a.Changes {
		if _, pending := c.WillBe.V.(*value.Pending); !pending {
			return fmt.Errorf("the proposal shows a swap, and with the values known now an edit would do; propose again")
		}
	}
	e.mu.Lock()
	defer e.mu.Unlock()
	e.skipped[a.Full()] = true
	return nil
}

// edit changes a thing in place.
func (e *executor) edit(ctx context.Context, a *propose.Action, inputs value.Map) error {
	typ, err := e.typeOf(a)
	if err != nil {
		return err
	}
	s, err := e.seen(a)
	if err != nil {
		return err
	}
	from, to := value.Map{}, value.Map{}
	shown := map[string]bool{}
	for _, c := range a.Changes {
		shown[topLevel(c.Path)] = true
	}
	for name := range shown {
		if v, ok := s.Live[name]; ok {
			from[name] = v
		}
		if v, ok := inputs[name]; ok {
			to[name] = v
		} else if at := typ.Attribute(name); at != nil && at.HasDefault {
			to[name] = at.Default
		}
		if value.Equal(from[name], to[name]) {
			delete(from, name)
			delete(to, name)
		}
	}
	for name, v := range inputs {
		at := typ.Attribute(name)
		switch {
		case value.IsSecret(a.Plan.Inputs[name]): // what it was is not compared here
		case shown[name] && at.Fixed && propose.ValuesDiffer(v, s.Live[name]):
			return fmt.Errorf("%s turned out to be %s, which needs a swap that the proposal did not show; propose again", name, value.Plain(v))
		case !shown[name] && propose.ValuesDiffer(v, s.Live[name]) && !left(a, name):
			return fmt.Errorf("%s turned out to be %s, a change that the proposal did not show; propose again", name,
				value.Plain(v))
		}
	}
	if len(from) == 0 && len(to) == 0 {
		e.mu.Lock()
		defer e.mu.Unlock()
		e.skipped[a.Full()] = true
		return nil
	}
	c := e.newCall(a, edit, "update")
	c.counts = countsOf(a, s)
	c.intent.Thing, c.intent.Tag = s.ID, s.Tag
	c.intent.Inputs = value.Attributes(propose.LeaveAlone(inputs, value.Map(s.Live), c.leave))
	c.intent.From, c.intent.To, c.intent.Before = value.Attributes(from), value.Attributes(to), s.Live
	if c.intent.Plan, err = e.record(a, inputs); err != nil {
		return err
	}
	return e.perform(ctx, &c)
}

// seen is what an edit builds on: what the proposal saw, or what letting go
// has left of it.
func (e *executor) seen(a *propose.Action) (*propose.Seen, error) {
	s := a.Plan.Seen
	if len(a.Plan.LetGo) == 0 {
		return s, nil
	}
	r, err := e.runs[a.Ward].Record(a.Address)
	if err != nil || r == nil {
		return s, err
	}
	now := *s
	now.Version, now.Tag, now.Inputs, now.Live = r.Version, r.Tag, r.Inputs, r.Live
	return &now, nil
}

// letGo takes references away, so that what they lead to can go.
func (e *executor) letGo(ctx context.Context, a *propose.Action) error {
	s := a.Plan.Seen
	c := e.newCall(a, letGo, "update")
	from, to, inputs := value.Attributes{}, value.Attributes{}, value.CloneMap(value.Map(s.Inputs))
	for _, name := range a.Plan.LetGo {
		if v, ok := s.Live[name]; ok {
			from[name] = v
		}
		delete(inputs, name)
		if v, ok := a.Plan.Stay[name]; ok {
			to[name], inputs[name] = v, v
		}
	}
	if len(from) == 0 {
		return nil
	}
	plan, err := e.runs[a.Ward].Record(a.Address)
	if err != nil || plan == nil {
		return err
	}
	next := *plan
	next.Inputs, next.Declared, next.Changed, next.Run = inputs, "", now(), e.o.Run
	next.Version++
	c.counts = countsOf(a, s)
	c.intent.Thing, c.intent.Tag = s.ID, s.Tag
	c.intent.Inputs = value.Attributes(propose.LeaveAlone(value.Map(plan.Reveal(inputs)), value.Map(s.Live), c.leave))
	c.intent.From, c.intent.To, c.intent.Before, c.intent.Plan = from, to, s.Live, &next
	return e.perform(ctx, &c)
}

// left reports whether an attribute, or a part of it, belongs to others.
func left(a *propose.Action, name string) bool {
	for _, p := range a.Plan.Care.Leave {
		if p[0].Key == name {
			return true
		}
	}
	return false
}

// countsOf are the attributes that an action relies on, as they were live: those that
// were enacted, and those that it changes, for the first time or not. Secrets are in it
// as the record has them. It is nil where nothing is known of what was live.
func countsOf(a *propose.Action, s *propose.Seen) value.Map {
	if s == nil || s.Live == nil {
		return nil
	}
	out := value.Map{}
	for name := range s.Inputs {
		out[name] = s.Live[name]
	}
	for _, c := range a.Changes {
		name := topLevel(c.Path)
		out[name] = s.Live[name]
	}
	return out
}

// countsOfRecord are those that a record says were enacted.
func countsOfRecord(r *ledger.Record) value.Map {
	out := value.Map{}
	for name := range r.Inputs {
		out[name] = r.Live[name]
	}
	return out
}

// countsOfIntent are those that a call of a dead run relied on.
func (e *executor) countsOfIntent(in *ledger.Intent) value.Map {
	switch {
	case in.Before == nil:
		return nil
	case in.Call == "delete":
		return e.countsOfRemoval(in.Type, value.Map(in.Before))
	}
	out := value.Map{}
	for _, m := range []value.Attributes{in.From, in.To} {
		for name := range m {
			out[name] = in.Before[name]
		}
	}
	if in.Plan != nil {
		for name := range in.Plan.Inputs {
			out[name] = in.Before[name]
		}
	}
	return out
}

// countsOfRemoval are the attributes of a thing that is to be removed: all that somebody
// could give it, declared or not, as they were live.
func (e *executor) countsOfRemoval(typ string, live value.Map) value.Map {
	t := e.typ(typ)
	if t == nil || live == nil {
		return nil
	}
	out := value.Map{}
	for _, a := range t.Inputs() {
		out[a.Name] = live[a.Name]
	}
	return out
}

// typ is a type by its name with its driver; nil where its driver no longer has it.
func (e *executor) typ(full string) *schema.Type {
	drv, name := propose.SplitType(full)
	if c := e.o.Catalogs[drv]; c != nil {
		return c.Types[name]
	}
	return nil
}

// leaveOf is what others own of a resource, by the record as it is to be.
func leaveOf(r *ledger.Record) []value.Path {
	if r == nil {
		return nil
	}
	return r.Care.Leave
}

// remove deletes what an action leaves behind: the thing itself, or the
// leftovers of a swap.
func (e *executor) remove(ctx context.Context, a *propose.Action) error {
	current, err := e.runs[a.Ward].Record(a.Address)
	if err != nil {
		return err
	}
	if current == nil {
		return nil // a recovered call has done it
	}
	if err := e.judgeEarly(ctx, a); err != nil {
		return err
	}
	r := *current
	hs := inCloud(a)
	self := a.Kind == propose.Drop || len(hs) == 2 && hs[0] == remove
	for len(r.Leftovers) > 0 {
		gone := r.Leftovers[0]
		if err := e.copyFirst(ctx, a, &r, gone.ID); err != nil {
			return err
		}
		r.Leftovers = r.Leftovers[1:]
		next := r
		next.Copies = without(r.Copies, gone.ID)
		next.Version++
		if err := e.removeOne(ctx, a, gone.ID, gone.Tag, e.countsOfLeftover(a, gone), &next); err != nil {
			return err
		}
		r = next
	}
	if !self {
		return nil
	}
	if r.ID == "" {
		return e.removeOne(ctx, a, "", "", nil, nil)
	}
	if err := e.copyFirst(ctx, a, &r, r.ID); err != nil {
		return err
	}
	counts := e.countsOfRemoval(a.Type, value.Map(a.Plan.Seen.Live))
	if a.Kind == propose.Drop {
		return e.removeOne(ctx, a, r.ID, a.Plan.Seen.Tag, counts, nil)
	}
	next := r
	next.Copies = without(r.Copies, r.ID)
	next.ID, next.Live, next.Tag, next.Changed, next.Run = "", nil, "", now(), e.o.Run
	next.Version++
	return e.removeOne(ctx, a, r.ID, a.Plan.Seen.Tag, counts, &next)
}

// countsOfLeftover are the attributes of a leftover as they were seen: as live where it
// was the thing until this run, else as they were enacted.
func (e *executor) countsOfLeftover(a *propose.Action, l ledger.Leftover) value.Map {
	if s := a.Plan.Seen; s != nil && s.ID == l.ID && s.Live != nil {
		return e.countsOfRemoval(l.Type, value.Map(s.Live))
	}
	out := value.Map{}
	for name, v := range l.Inputs {
		if !value.IsSecret(v) {
			out[name] = v
		}
	}
	return out
}

func (e *executor) removeOne(ctx context.Context, a *propose.Action, id, tag string, counts value.Map,
	next *ledger.Record) error {
	c := e.newCall(a, remove, "delete")
	c.counts = counts
	c.intent.Thing, c.intent.Tag, c.intent.Plan = id, tag, next
	if s := a.Plan.Seen; s != nil && id == s.ID {
		c.intent.Before = s.Live
	} else if counts != nil {
		c.intent.Before = value.Attributes(counts)
	}
	return e.perform(ctx, &c)
}
