package enact

import (
	"context"
	"errors"
	"sync"
	"time"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Undone is what became of an action that was to be taken back.
type Undone struct {
	Ward    string `json:"ward"`
	Address string `json:"address"`
	Was     string `json:"was,omitempty"`   // id of a thing that was dropped
	Made    string `json:"made,omitempty"`  // and of the one that was made again in its place
	Error   string `json:"error,omitempty"` // Err's text

	Err error `json:"-"` // why it could not be taken back, or not wholly; nil when it was
}

// madeCall is a call of this run that had its effect.
type madeCall struct {
	call   call
	before *ledger.Record // nil when nothing was recorded
	after  *ledger.Record // nil when nothing is recorded any more
}

// succeeded records what a call came to and notes it for undoing.
func (e *executor) succeeded(c *call, r ledger.Result) error {
	if err := e.result(c, r); err != nil {
		return err
	}
	if !c.intent.Undo {
		e.noteCall(&madeCall{*c, c.before, r.Record})
	}
	return nil
}

func (e *executor) noteCall(m *madeCall) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.calls[m.call.step] = append(e.calls[m.call.step], m)
}

// unclear notes a call whose outcome is not known, and in the ledger what it made, where
// that is known.
func (e *executor) unclear(c *call) error {
	e.mu.Lock()
	c.lost = true
	e.unclearCalls = append(e.unclearCalls, c)
	e.mu.Unlock()
	if c.thing == "" || e.isBroken() {
		return nil
	}
	return e.result(c, ledger.Result{Outcome: ledger.Unclear, Made: c.thing})
}

// undo takes back what the run has done, in the reverse order of its steps.
// What cannot be taken back stays, and so does all that it rests on.
func (e *executor) undo(ctx context.Context, steps []*step) {
	u := &undoing{e: e, again: map[string]driver.Live{}, moved: map[string]map[string]string{},
		errs: map[string]error{}, done: map[string]bool{}}
	u.findOut(ctx)
	back := make(map[*step]*step, len(steps))
	all := make([]*step, 0, len(steps))
	for _, s := range steps {
		back[s] = &step{action: s.action, half: s.half, name: s.name}
		all = append(all, back[s])
	}
	for _, s := range steps {
		for _, later := range s.after {
			back[s].before++
			back[later].after = append(back[later].after, back[s])
		}
	}
	e.work(all, func() bool { return e.broken == nil && ctx.Err() == nil },
		func(s *step) bool { return u.step(ctx, s) })
	u.tell(steps)
}

// undoing is the taking back of one run.
type undoing struct {
	e *executor

	mu    sync.Mutex
	again map[string]driver.Live // `TYPE ID` of a dropped thing -> what was made in its stead
	// full address of such a thing -> texts that the cloud had decided -> as they are now
	moved map[string]map[string]string
	errs  map[string]error // by step
	done  map[string]bool  // by step
}

// findOut makes the calls again whose end is not known, with their keys, so
// that what they did can be taken back.
func (u *undoing) findOut(ctx context.Context) {
	e := u.e
	for _, c := range e.unclearCalls {
		live, outcome, err := e.send(ctx, c)
		switch outcome {
		case driver.Done:
			err = e.succeeded(c, e.doneResult(c.run.Ward(), &c.intent, live, 0))
		case driver.NotDone:
			err = e.result(c, ledger.Result{Outcome: ledger.Failed, Error: err.Error()})
		}
		if err != nil {
			u.errs[c.step] = unclearEnd(c, e.o.Run, err)
			continue
		}
		ward := e.byWard[c.run.Ward()]
		e.mu.Lock()
		e.counts.Unclear, e.counts.Failed = e.counts.Unclear-1, e.counts.Failed+1
		ward.Unclear, ward.Failed = ward.Unclear-1, ward.Failed+1
		e.mu.Unlock()
	}
}

// step takes back the calls of a step, the last one first.
func (u *undoing) step(ctx context.Context, s *step) bool {
	e, calls := u.e, u.e.calls[s.name]
	if u.errs[s.name] != nil {
		return false
	}
	if len(calls) == 0 {
		return true
	}
	a, began := s.action, time.Now()
	ev := Event{Kind: EventStart, Ward: a.Ward, Address: a.Address, Action: a.Kind, Undo: true}
	if len(inCloud(a)) > 1 {
		ev.Half = string(s.half)
	}
	e.event(ev)
	for i := len(calls) - 1; i >= 0; i-- {
		if err := u.call(ctx, calls[i]); err != nil {
			u.mu.Lock()
			u.errs[s.name] = err
			u.mu.Unlock()
			ev.Kind, ev.Err = EventFailed, err
			e.event(ev)
			return false
		}
	}
	u.mu.Lock()
	u.done[s.name] = true
	u.mu.Unlock()
	e.mu.Lock()
	if whole := e.halfDone[a.Full()] == len(halves(a)); whole {
		if e.undoneHalves[a.Full()]++; e.undoneHalves[a.Full()] == len(e.stepsWithCalls(a)) {
			e.counts.Undone++
			e.byWard[a.Ward].Undone++
		}
	}
	delete(e.unfinished, a.Full())
	e.mu.Unlock()
	ev.Kind, ev.Seconds = EventDone, time.Since(began).Seconds()
	e.event(ev)
	return true
}

// stepsWithCalls are the steps of an action that made calls.
func (e *executor) stepsWithCalls(a *propose.Action) []string {
	var out []string
	for _, h := range halves(a) {
		if k := key(a.Full(), h); len(e.calls[k]) > 0 {
			out = append(out, k)
		}
	}
	return out
}

// errGuarded is why a guarded thing that was made stays.
var errGuarded = errors.New("it is guarded")

// call takes one call back.
func (u *undoing) call(ctx context.Context, m *madeCall) error {
	e, in := u.e, m.call.intent
	if in.Call == callRename {
		return e.renameBack(ctx, m)
	}
	if in.Call == callAdopt {
		return e.letGoAgain(ctx, m)
	}
	if in.Call == ledger.CallCopy {
		return nil // what was copied is made again without its data: the copy stays
	}
	now, err := m.call.run.Record(in.Address)
	if err != nil {
		return err
	}
	version := int64(1)
	if now != nil {
		version = now.Version + 1
	}
	if m.before != nil {
		e.confide(map[string]any(m.before.Hidden))
	}
	next := u.restored(m.call.run.Ward(), m.before, version)
	c := call{run: m.call.run, within: m.call.within, drv: m.call.drv, typ: m.call.typ}
	c.intent = ledger.Intent{Address: in.Address, Type: in.Type, Action: in.Action, Half: in.Half, Undo: true,
		Plan: next}
	if m.after != nil {
		c.leave = m.after.Care.Leave
		switch in.Call {
		case "create":
			c.counts = e.countsOfRemoval(in.Type, value.Map(m.after.Live))
		default:
			c.counts = countsOfRecord(m.after)
		}
	}
	switch in.Call {
	case "create":
		if m.after.Care.Guard {
			return errGuarded
		}
		c.intent.Call, c.intent.Thing, c.intent.Tag, c.intent.Before = "delete", m.after.ID, m.after.Tag, m.after.Live
	case "update":
		c.intent.Call, c.intent.Thing, c.intent.Tag, c.intent.Before = "update", in.Thing, m.after.Tag, m.after.Live
		c.intent.From, c.intent.To = in.To, u.remap(m.before.Needs, m.before.Reveal(value.Map(in.From)))
		c.intent.Inputs = u.remap(m.before.Needs, m.before.Reveal(value.Map(next.Inputs)))
	case "delete":
		if in.Thing != "" && in.Before != nil {
			return u.makeAgain(ctx, c, m.before, in, next)
		}
		fallthrough // nothing was there
	default:
		return c.run.Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: "undone", Record: next}})
	}
	return e.perform(ctx, &c)
}

// makeAgain makes a thing in place of one that was dropped, with all that
// could be given to it.
func (u *undoing) makeAgain(ctx context.Context, c call, before *ledger.Record, in ledger.Intent,
	next *ledger.Record) error {
	drv, name := propose.SplitType(in.Type)
	typ := u.e.o.Catalogs[drv].Types[name]
	inputs := value.Attributes{}
	for name, v := range before.Reveal(value.Map(in.Before)) {
		if a := typ.Attribute(name); a != nil && !a.Output && v != nil {
			inputs[name] = v
		}
	}
	inputs = u.remap(next.Needs, inputs)
	if next.ID == in.Thing {
		next.ID, next.Tag, next.Live = "", "", nil
	} else {
		for i := range next.Leftovers {
			if next.Leftovers[i].ID == in.Thing {
				next.Leftovers[i].ID, next.Leftovers[i].Tag = "", ""
			}
		}
	}
	c.counts = nil
	c.intent.Call, c.intent.Inputs = "create", inputs
	c.made = func(live driver.Live) { u.note(typ, value.InWard(c.run.Ward(), in.Address), in, live) }
	return u.e.perform(ctx, &c)
}

// restored is a record as it was, with the things that were made again in
// place of the ones it had.
func (u *undoing) restored(ward string, was *ledger.Record, version int64) *ledger.Record {
	if was == nil {
		return nil
	}
	r := *was
	r.Version, r.Changed, r.Run = version, now(), u.e.o.Run
	r.Inputs = u.remap(r.Needs, r.Inputs)
	u.mu.Lock()
	defer u.mu.Unlock()
	if live, ok := u.again[r.Type+" "+r.ID]; ok && r.ID != "" {
		r.ID, r.Tag = live.ID, live.Tag
		u.e.take(&r, ward, live.Attributes)
	}
	r.Leftovers = append([]ledger.Leftover(nil), r.Leftovers...)
	for i, left := range r.Leftovers {
		if live, ok := u.again[left.Type+" "+left.ID]; ok {
			r.Leftovers[i].ID, r.Leftovers[i].Tag = live.ID, live.Tag
		}
	}
	return &r
}

// remap puts what the cloud decided about things that were made again, such as
// their ids and addresses, in place of what it had decided about those that
// were dropped. It looks at texts that came from what the record needs.
func (u *undoing) remap(needs []string, inputs value.Attributes) value.Attributes {
	u.mu.Lock()
	defer u.mu.Unlock()
	now := map[string]string{}
	for _, n := range needs {
		for was, is := range u.moved[n] {
			now[was] = is
		}
	}
	if len(now) == 0 || inputs == nil {
		return inputs
	}
	return value.Attributes(value.Replace(map[string]any(inputs), func(leaf any) any {
		if was, ok := leaf.(string); ok && now[was] != "" {
			return now[was]
		}
		return leaf
	}).(map[string]any))
}

// note keeps what is new about a thing that was made in place of another.
func (u *undoing) note(t *schema.Type, full string, in ledger.Intent, live driver.Live) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.again[in.Type+" "+in.Thing] = live
	moved := map[string]string{in.Thing: live.ID}
	for name, v := range in.Before {
		was, ok1 := v.(string)
		is, ok2 := live.Attributes[name].(string)
		if a := t.Attribute(name); a != nil && a.Output && ok1 && ok2 && was != is && was != "" {
			moved[was] = is
		}
	}
	u.moved[full] = moved
}

// tell gathers what became of each action that had done something.
func (u *undoing) tell(steps []*step) {
	e := u.e
	e.tookBackAll = true
	at := map[string]int{}
	for _, s := range steps {
		calls := e.calls[s.name]
		if len(calls) == 0 && u.errs[s.name] == nil {
			continue
		}
		full := s.action.Full()
		i, there := at[full]
		if !there {
			i = len(e.undone)
			at[full] = i
			e.undone = append(e.undone, Undone{Ward: s.action.Ward, Address: s.action.Address})
		}
		x := &e.undone[i]
		switch {
		case u.errs[s.name] != nil:
			x.Err = errors.Join(x.Err, u.errs[s.name])
		case !u.done[s.name] && e.stopped():
			x.Err = errors.Join(x.Err, errors.New("it was not begun any more"))
		case !u.done[s.name]:
			x.Err = errors.Join(x.Err, errors.New("something that rests on it could not be taken back"))
		}
		for _, m := range calls {
			if live, ok := u.again[m.call.intent.Type+" "+m.call.intent.Thing]; ok {
				x.Was, x.Made = m.call.intent.Thing, live.ID
			}
		}
		e.tookBackAll = e.tookBackAll && x.Err == nil
	}
}
