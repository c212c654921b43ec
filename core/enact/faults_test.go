package enact_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/store"
	"kasbah/core/value"
)

// faulty is a driver between the program and Medina that does as a test says.
type faulty struct {
	driver.Driver
	mu     sync.Mutex
	keys   map[string]int                                  // how often each key was sent
	before func(call, typ, id string) error                // may refuse, or act, before the call
	after  func(call, typ, id string, l driver.Live) error // may lose the answer
}

func (f *faulty) around(call, typ, id, key string, do func() (driver.Live, error)) (driver.Live, error) {
	f.mu.Lock()
	f.keys[key]++
	before, after := f.before, f.after
	f.mu.Unlock()
	if before != nil {
		if err := before(call, typ, id); err != nil {
			return driver.Live{}, err
		}
	}
	l, err := do()
	if err == nil && after != nil {
		err = after(call, typ, id, l)
	}
	return l, err
}

func (f *faulty) Create(ctx context.Context, typ string, in value.Map, key string) (driver.Live, error) {
	return f.around("create", typ, "", key, func() (driver.Live, error) { return f.Driver.Create(ctx, typ, in, key) })
}

func (f *faulty) Update(ctx context.Context, typ, id string, c driver.Change, tag, key string) (driver.Live, error) {
	return f.around("update", typ, id, key, func() (driver.Live, error) {
		return f.Driver.Update(ctx, typ, id, c, tag,
			key)
	})
}

func (f *faulty) Delete(ctx context.Context, typ, id, tag, key string) error {
	_, err := f.around("delete", typ, id, key, func() (driver.Live, error) {
		return driver.Live{},
			f.Driver.Delete(ctx, typ, id, tag, key)
	})
	return err
}

func (f *faulty) Copy(ctx context.Context, typ, id, key string) (driver.Live, error) {
	return f.around("copy", typ, id, key, func() (driver.Live, error) {
		return f.Driver.(driver.Copier).Copy(ctx, typ,
			id, key)
	})
}

// small is an estate of four resources in a chain and one beside it.
func small(t *testing.T) (*coast, *faulty) {
	c := newCoast(t, 1)
	f := &faulty{Driver: c.drv, keys: map[string]int{}}
	for _, x := range []*thing{
		{typ: "network", name: "net", attrs: map[string]string{"range": `"10.0.0.0/16"`}},
		{typ: "subnet", name: "sub", on: "net", attrs: map[string]string{"range": `"10.0.1.0/24"`}},
		{typ: "machine", name: "mac", on: "sub", attrs: map[string]string{"size": `"small"`, "image": `"stone-1"`}},
		{typ: "disk", name: "dsk", on: "mac", attrs: map[string]string{"gigabytes": "10"}},
		{typ: "bucket", name: "bkt", attrs: map[string]string{}},
	} {
		c.things[x.name] = x
	}
	c.write()
	return c, f
}

func (c *coast) run(f *faulty, p *propose.Proposal, change func(*enact.Options)) (*enact.Result, error) {
	c.runs++
	o := enact.Options{
		Run: fmt.Sprintf("run-%d", c.runs),
		Clouds: enact.Clouds{Drivers: map[string]driver.Driver{"medina": f},
			Catalogs: map[string]*schema.Catalog{"medina": c.catalog},
			Ledgers:  map[string]*ledger.Ledger{"shore": c.ledger()}},
		Pace: enact.Pace{Shows: -1},
	}
	if change != nil {
		change(&o)
	}
	return enact.Enact(context.Background(), p, o)
}

// TestPassingFaultsAreRetried: with the same key, so that nothing is made
// twice, even when the answer was lost after the effect.
func TestPassingFaultsAreRetried(t *testing.T) {
	c, f := small(t)
	lost := map[string]bool{}
	f.after = func(call, typ, id string, l driver.Live) error {
		f.mu.Lock()
		defer f.mu.Unlock()
		if lost[typ] {
			return nil
		}
		lost[typ] = true
		return &driver.Error{Message: "the connection was lost", Passing: true}
	}
	retries := 0
	r, err := c.run(f, c.propose(false), func(o *enact.Options) {
		o.Event = func(e enact.Event) {
			if e.Kind == enact.EventRetry {
				retries++
			}
		}
	})
	require.NoError(t, err)
	require.Equal(t, "done", r.Outcome)
	require.Equal(t, 5, retries)
	require.Len(t, c.live(), 5, "nothing is doubled")
	for key, n := range f.keys {
		require.Equal(t, 2, n, "the call goes out again with its key %s", key)
	}
	require.Zero(t, c.propose(false).Counts.Changing())
}

// TestStopOnFailure: what is running may finish, nothing more is started, and
// the next run goes on from there.
func TestStopOnFailure(t *testing.T) {
	c, f := small(t)
	f.before = func(call, typ, id string) error {
		if typ == "subnet" {
			return &driver.Error{Message: "no", NotDone: true,
				Problems: []driver.Problem{{Path: "range", Message: "no"}}}
		}
		return nil
	}
	r, err := c.run(f, c.propose(false), func(o *enact.Options) { o.Parallel = 1 })
	require.NoError(t, err)
	require.Equal(t, "failed", r.Outcome)
	require.Equal(t, 1, r.Counts.Failed)
	require.Equal(t, r.Counts.Total, r.Counts.Done+r.Counts.Failed+r.Counts.NotBegun+r.Counts.Unfinished)
	require.GreaterOrEqual(t, r.Counts.NotBegun, 2)
	require.Len(t, r.Failures, 1)
	require.Equal(t, "medina.subnet/sub", r.Failures[0].Address)
	require.Equal(t, "range", r.Failures[0].Path)
	require.NotZero(t, r.Failures[0].Position.Column, "at the attribute's own place")
	f.before = nil
	p := c.propose(false)
	require.Equal(t, r.Counts.NotBegun+1, p.Counts.Changing())
	r, err = c.run(f, p, nil)
	require.NoError(t, err)
	require.Equal(t, "done", r.Outcome)
	require.Len(t, c.live(), 5)
}

// TestUnclearEnd: a call whose end is never known leaves its intent open, and
// the next run finds out by the same key.
func TestUnclearEnd(t *testing.T) {
	c, f := small(t)
	f.after = func(call, typ, id string, l driver.Live) error {
		if typ == "machine" {
			return &driver.Error{Message: "the connection was lost", Passing: true}
		}
		return nil
	}
	r, err := c.run(f, c.propose(false), func(o *enact.Options) { o.Timeout = 2 * time.Second })
	require.NoError(t, err)
	require.Equal(t, "failed", r.Outcome)
	require.Equal(t, 1, r.Counts.Unclear)
	s, err := c.ledger().Load(context.Background())
	require.NoError(t, err)
	require.Len(t, s.Unresolved(), 1)
	p := c.propose(false)
	require.Len(t, p.Unfinished, 1)
	require.Equal(t, "medina.machine/mac", p.Unfinished[0].Address)
	require.Len(t, p.Warnings, 1)
	for _, a := range p.Actions {
		if a.Address == "medina.machine/mac" {
			require.Equal(t, propose.Same, a.Kind, "it is taken as done")
		}
	}
	f.after = nil
	r, err = c.run(f, p, nil) // begins by finding out, and then does what was shown
	require.NoError(t, err)
	require.Equal(t, "done", r.Outcome, "%v", r.Failures)
	require.Equal(t, []string{"shore:medina.machine/mac"}, r.Recovered)
	require.Len(t, c.live(), 5, "no second machine")
	require.Zero(t, c.propose(false).Counts.Changing())
}

// TestHandEdits: an edit by hand between the proposal and the call is never
// overwritten; a tag that moved for another reason is no hand edit.
func TestHandEdits(t *testing.T) {
	ctx := context.Background()
	c, f := small(t)
	_, err := c.run(f, c.propose(false), nil)
	require.NoError(t, err)
	c.things["mac"].attrs["size"] = `"medium"`
	c.things["sub"].attrs["tags"] = `{"a": "b"}`
	c.write()
	p := c.propose(false)
	require.Equal(t, 2, p.Counts.Edit)
	meanwhile := func(typ, address string, from, to value.Map) {
		for _, a := range p.Actions {
			if a.Address == address {
				_, err := c.drv.Update(ctx, typ, a.Plan.Seen.ID, driver.Change{From: from, To: to}, "", "")
				require.NoError(t, err)
			}
		}
	}
	// the machine's size is what the proposal is about; the subnet's free
	// addresses are nobody's, and only its tag moves
	meanwhile("machine", "medina.machine/mac", value.Map{"size": "small"}, value.Map{"size": "large"})
	for _, l := range c.live() {
		if l.Attributes["network"] != nil {
			_, err := c.drv.Create(ctx, "machine", value.Map{"subnet": l.ID, "size": "tiny", "image": "x",
				"name": "stranger"}, "")
			require.NoError(t, err)
		}
	}
	r, err := c.run(f, p, nil)
	require.NoError(t, err)
	require.Equal(t, "failed", r.Outcome)
	require.Len(t, r.Failures, 1)
	require.Contains(t, r.Failures[0].Message, "size was changed from small to large since it was read; nothing was "+
		"overwritten")
	for _, l := range c.live() {
		if l.Attributes["name"] == "trial-shore-mac" {
			require.Equal(t, "large", l.Attributes["size"])
		}
		if l.Attributes["name"] == "trial-shore-sub" {
			require.Equal(t, value.Map{"a": "b"}, l.Attributes["tags"], "edited in spite of its moved tag")
		}
	}
	_, err = c.run(f, p, func(o *enact.Options) { o.JudgeLive = true })
	var refused *enact.Refused
	require.True(t, errors.As(err, &refused), "%v", err)
}

// TestStopping: told to stop, a run starts nothing more; told again, it ends
// its calls, and the intents tell the rest.
func TestStopping(t *testing.T) {
	c, f := small(t)
	stop := make(chan struct{})
	f.before = func(call, typ, id string) error {
		if typ == "network" {
			close(stop)
		}
		return nil
	}
	r, err := c.run(f, c.propose(false), func(o *enact.Options) { o.Stop, o.Parallel = stop, 1 })
	require.NoError(t, err)
	require.Equal(t, "stopped", r.Outcome)
	require.GreaterOrEqual(t, r.Counts.NotBegun, 3)
	require.Zero(t, r.Counts.Failed)
	f.before = nil

	ctx, cancel := context.WithCancel(context.Background())
	f.before = func(call, typ, id string) error {
		cancel()
		return ctx.Err()
	}
	c.runs++
	r, err = enact.Enact(ctx, c.propose(false), enact.Options{
		Run: "cancelled",
		Clouds: enact.Clouds{Drivers: map[string]driver.Driver{"medina": f},
			Catalogs: map[string]*schema.Catalog{"medina": c.catalog},
			Ledgers:  map[string]*ledger.Ledger{"shore": c.ledger()}},
		Pace: enact.Pace{Shows: -1, Parallel: 1},
	})
	require.NoError(t, err)
	require.Equal(t, "failed", r.Outcome)
	s, err := c.ledger().Load(context.Background())
	require.NoError(t, err)
	require.Empty(t, s.Open, "the lock is given back")
	f.before = nil
	_, err = enact.Recover(context.Background(), map[string]ledger.Scope{"shore": ledger.Whole}, nil, enact.Options{
		Run: "recover",
		Clouds: enact.Clouds{Drivers: map[string]driver.Driver{"medina": f},
			Catalogs: map[string]*schema.Catalog{"medina": c.catalog},
			Ledgers:  map[string]*ledger.Ledger{"shore": c.ledger()}},
		Pace: enact.Pace{Shows: -1},
	})
	require.NoError(t, err)
	c.enact(c.propose(false))
	require.Len(t, c.live(), 5)
}

// TestBrokenLock: a run whose lock is taken away makes no further call.
func TestBrokenLock(t *testing.T) {
	c, f := small(t)
	calls := 0
	f.before = func(call, typ, id string) error {
		calls++
		if calls == 1 {
			return c.ledger().Break(context.Background(), "run-1", "a test", "")
		}
		return nil
	}
	_, err := c.run(f, c.propose(false), func(o *enact.Options) { o.Parallel = 1 })
	require.ErrorIs(t, err, ledger.ErrBroken)
	require.Equal(t, 1, calls)
	f.before = nil
	// the one call it made stands as an open intent, and is found out about
	r, err := enact.Recover(context.Background(), map[string]ledger.Scope{"shore": ledger.Whole}, nil, enact.Options{
		Run: "run-2",
		Clouds: enact.Clouds{Drivers: map[string]driver.Driver{"medina": f},
			Catalogs: map[string]*schema.Catalog{"medina": c.catalog},
			Ledgers:  map[string]*ledger.Ledger{"shore": c.ledger()}},
		Pace: enact.Pace{Shows: -1},
	})
	require.NoError(t, err)
	require.Len(t, r.Recovered, 1)
	c.enact(c.propose(false))
	require.Len(t, c.live(), 5)
}

// TestKeylessCloud: where the cloud remembers no keys only a person can tell
// what became of an unfinished create.
func TestKeylessCloud(t *testing.T) {
	ctx := context.Background()
	c, f := small(t)
	f.after = func(call, typ, id string, l driver.Live) error {
		if typ == "bucket" {
			return &driver.Error{Message: "lost", Passing: true}
		}
		return nil
	}
	keyless := *c.catalog
	keyless.Types = map[string]*schema.Type{}
	for n, typ := range c.catalog.Types {
		copied := *typ
		copied.KeyMemory, copied.Identify = 0, nil
		keyless.Types[n] = &copied
	}
	r, err := c.run(f, c.propose(false),
		func(o *enact.Options) { o.Catalogs = map[string]*schema.Catalog{"medina": &keyless} })
	require.NoError(t, err)
	require.Equal(t, 1, r.Counts.Unclear)
	f.after = nil
	o := enact.Options{
		Run: "run-9",
		Clouds: enact.Clouds{Drivers: map[string]driver.Driver{"medina": f},
			Catalogs: map[string]*schema.Catalog{"medina": &keyless},
			Ledgers:  map[string]*ledger.Ledger{"shore": c.ledger()}},
		Pace: enact.Pace{Shows: -1},
	}
	_, err = enact.Recover(ctx, map[string]ledger.Scope{"shore": ledger.Whole}, nil, o)
	require.ErrorContains(t, err, "only a person can find out; tell it with `kasbah lock recover run-1 -made "+
		"shore:medina.bucket/bkt=ID`")
	for _, typ := range keyless.Types {
		typ.KeyMemory = time.Nanosecond // long past
	}
	before := len(c.live())
	o.Run = "run-9b"
	_, err = enact.Recover(ctx, map[string]ledger.Scope{"shore": ledger.Whole}, nil, o)
	require.ErrorContains(t, err, "the cloud may have forgotten its key: its outcome is not known, and only a person "+
		"can find out")
	require.Len(t, c.live(), before, "nothing is made a second time")
	var id string
	for _, l := range c.live() {
		if l.Attributes["url"] != nil {
			id = l.ID
		}
	}
	o.Run = "run-10"
	_, err = enact.Recover(ctx, map[string]ledger.Scope{"shore": ledger.Whole},
		map[string]string{"medina.bucket/bkt": id}, o)
	require.NoError(t, err)
	c.enact(c.propose(false))
	require.Len(t, c.live(), 5)
}

// TestUsesAreJudged: a proposal that was made from another resource's
// attribute is refused when that resource was swapped since, and not when
// something moved that nobody uses.
func TestUsesAreJudged(t *testing.T) {
	c, f := small(t)
	_, err := c.run(f, c.propose(false), nil)
	require.NoError(t, err)
	c.things["new"] = &thing{typ: "machine", name: "new", on: "sub", attrs: map[string]string{"size": `"tiny"`,
		"image": `"x"`, "notes": "sub.gateway"}}
	c.write()
	kept := c.propose(false)
	require.Equal(t, 1, kept.Counts.New)

	delete(c.things, "new")
	c.things["bkt"].attrs["versions"] = "True"
	c.write()
	c.enact(c.propose(false)) // disjoint: the kept one stays good
	_, err = c.run(f, kept, func(o *enact.Options) { o.JudgeLive = true })
	require.NoError(t, err)
	require.Len(t, c.live(), 6)

	c.things["two"] = &thing{typ: "machine", name: "two", on: "sub", attrs: map[string]string{"size": `"tiny"`,
		"image": `"x"`}}
	c.things["new"] = &thing{typ: "machine", name: "new", on: "sub", attrs: map[string]string{"size": `"tiny"`,
		"image": `"x"`, "notes": "sub.gateway"}}
	c.write()
	kept = c.propose(false)
	require.Equal(t, 1, kept.Counts.New)
	delete(c.things, "two")
	c.things["sub"].attrs["range"] = `"10.0.7.0/24"`
	c.write()
	c.enact(c.propose(false))
	_, err = c.run(f, kept, nil)
	var refused *enact.Refused
	require.ErrorAs(t, err, &refused)
	require.Contains(t, refused.Error(), "medina.machine/two: it uses medina.subnet/sub id, which was sub-")
	require.Len(t, c.live(), 6, "nothing was done")
}

// TestPromise: when a value that was not known turns out to ask for something
// that the proposal did not show, the run stops before it; when it turns out
// to be what is there, nothing is done.
func TestPromise(t *testing.T) {
	c, f := small(t)
	c.things["rec"] = &thing{typ: "record", name: "rec", on: "mac", attrs: map[string]string{"name": `"a.example"`,
		"kind": `"A"`, "values": "[mac.address]"}}
	c.write()
	_, err := c.run(f, c.propose(false), nil)
	require.NoError(t, err)
	c.things["mac"].attrs["image"] = `"stone-2"`
	c.write()
	p := c.propose(false)
	var record, disk *propose.Action
	for _, a := range p.Actions {
		switch a.Address {
		case "medina.record/rec":
			record = a
		case "medina.disk/dsk":
			disk = a
		}
	}
	require.Equal(t, propose.Edit, record.Kind)
	require.Equal(t, "medina.machine/mac address", record.Changes[0].From)

	// a plan that asks for more than its changes show
	disk.Plan.Inputs["gigabytes"] = int64(99)
	// and one whose value turns out to be what is there already
	record.Plan.Inputs["values"] = record.Plan.Seen.Live["values"]
	r, err := c.run(f, p, nil)
	require.NoError(t, err)
	require.Equal(t, "failed", r.Outcome)
	require.Len(t, r.Failures, 1)
	require.Equal(t, "medina.disk/dsk", r.Failures[0].Address)
	require.Contains(t, r.Failures[0].Message, "gigabytes turned out to be 99, a change that the proposal did not "+
		"show; propose again")
	for _, l := range c.live() {
		if g, ok := l.Attributes["gigabytes"]; ok {
			require.EqualValues(t, 10, g)
		}
	}
	c.enact(c.propose(false))
	require.Zero(t, c.propose(false).Counts.Changing())
}

// TestUnclearSwap: the make of a swap whose end is not known is found out
// about by the next run, which then only clears the old thing away.
func TestUnclearSwap(t *testing.T) {
	c, f := small(t)
	_, err := c.run(f, c.propose(false), nil)
	require.NoError(t, err)
	c.things["mac"].attrs["image"] = `"stone-2"`
	c.write()
	f.after = func(call, typ, id string, l driver.Live) error {
		if call == "create" {
			return &driver.Error{Message: "lost", Passing: true}
		}
		return nil
	}
	r, err := c.run(f, c.propose(false), func(o *enact.Options) { o.Timeout = 1000 * time.Millisecond })
	require.NoError(t, err)
	require.Equal(t, 1, r.Counts.Unclear)
	f.after = nil
	p := c.propose(false) // with the call unfinished, as a kept proposal has it
	require.Len(t, p.Unfinished, 1)
	r, err = c.run(f, p, nil)
	require.NoError(t, err)
	require.Equal(t, "done", r.Outcome, "%v", r.Failures)
	c.enact(c.propose(false))
	require.Zero(t, c.propose(false).Counts.Changing())
	require.Len(t, c.live(), 5, "one machine, the new one")
}

// TestStrangeProposals: a file that asks for what is not there is refused or
// fails plainly, whatever it says.
func TestStrangeProposals(t *testing.T) {
	c, f := small(t)
	_, err := c.run(f, c.propose(false), nil)
	require.NoError(t, err)
	before := len(c.live())
	for _, test := range []struct {
		name  string
		spoil func(*propose.Proposal)
	}{
		{"no such driver", func(p *propose.Proposal) { p.Actions[0].Type = "other.bucket" }},
		{"no such type", func(p *propose.Proposal) { p.Actions[0].Type = "medina.lamp" }},
		{"another ward", func(p *propose.Proposal) { p.Wards[0].Ward = "signal" }},
		{"a path", func(p *propose.Proposal) {
			p.Actions[0].Plan.Uses = []propose.Use{{Address: "shore:x",
				Path: "a["}}
		}},
		{"another id", func(p *propose.Proposal) { p.Actions[0].Plan.Seen.ID = "bkt-9999" }},
	} {
		t.Run(test.name, func(t *testing.T) {
			p := c.propose(true)
			test.spoil(p)
			r, err := c.run(f, p, func(o *enact.Options) { o.JudgeLive, o.Parallel = true, 1 })
			require.True(t, err != nil || r.Outcome == "failed", test.name)
			require.GreaterOrEqual(t, len(c.live()), before-1, test.name)
			if p := c.propose(false); p.Counts.Changing() > 0 {
				c.enact(p)
			}
		})
	}
}

// gone is a store that cannot be reached while it is down.
type gone struct {
	store.Store
	down atomic.Bool
}

var errDown = errors.New("the store cannot be reached")

func (g *gone) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	if g.down.Load() {
		return errDown
	}
	return g.Store.PutIfAbsent(ctx, key, body)
}

func (g *gone) Get(ctx context.Context, key string) ([]byte, error) {
	if g.down.Load() {
		return nil, errDown
	}
	return g.Store.Get(ctx, key)
}

func (g *gone) List(ctx context.Context, prefix, after string) iter.Seq2[string, error] {
	if g.down.Load() {
		return func(yield func(string, error) bool) { yield("", errDown) }
	}
	return g.Store.List(ctx, prefix, after)
}

// TestLedgerGone: a call whose answer was lost while the ledger cannot be reached has no
// known end. The next run finds out; nothing is told as failed, and nothing is made twice.
func TestLedgerGone(t *testing.T) {
	c, f := small(t)
	g := &gone{Store: c.store}
	lost := make(chan struct{})
	var once sync.Once
	f.before = func(call, typ, id string) error {
		if typ == "bucket" {
			<-lost // its result finds the ledger gone
		}
		return nil
	}
	f.after = func(call, typ, id string, l driver.Live) error {
		if typ != "machine" {
			return nil
		}
		once.Do(func() {
			g.down.Store(true)
			close(lost)
		})
		return &driver.Error{Message: "the connection was lost", Passing: true}
	}
	p := c.propose(false)
	o := c.options("first", f, g)
	o.Parallel = 4
	r, err := enact.Enact(context.Background(), p, o)
	require.ErrorIs(t, err, errDown)
	if r != nil {
		require.Zero(t, r.Counts.Failed, "nobody knows that it failed")
	}
	g.down.Store(false)
	f.before, f.after = nil, nil

	require.NoError(t, c.ledger().Break(context.Background(), "first", "its ledger was gone", ""))
	s, err := c.ledger().Load(context.Background())
	require.NoError(t, err)
	require.Len(t, s.Unresolved(), 2, "the machine and the bucket")
	p = c.propose(false)
	r, err = enact.Enact(context.Background(), p, c.options("second", f, g))
	require.NoError(t, err)
	require.Equal(t, "done", r.Outcome, "%v", r.Failures)
	require.ElementsMatch(t, []string{"shore:medina.machine/mac", "shore:medina.bucket/bkt"}, r.Recovered)
	require.Len(t, c.live(), 5, "nothing was made twice")
	require.Zero(t, c.propose(false).Counts.Changing())
}

// TestStopEndsRepeats: one request to stop ends the repeats of a call that can never
// succeed, long before its time is up.
func TestStopEndsRepeats(t *testing.T) {
	c, f := small(t)
	stop := make(chan struct{})
	var once sync.Once
	f.before = func(call, typ, id string) error {
		once.Do(func() { close(stop) })
		return &driver.Error{Message: "too busy", Passing: true, NotDone: true}
	}
	began := time.Now()
	r, err := c.run(f, c.propose(false), func(o *enact.Options) { o.Timeout, o.Stop = 2*time.Minute, stop })
	require.NoError(t, err)
	require.Less(t, time.Since(began), time.Minute)
	require.NotEqual(t, "done", r.Outcome)
	s, err := c.ledger().Load(context.Background())
	require.NoError(t, err)
	require.Empty(t, s.Holders(), "the lock is given back")
}

// TestBegunAhead: a few intents are written before there is room for their calls. After a stop or a failure no such
// call is made, and the next run goes on.
func TestBegunAhead(t *testing.T) {
	for name, fails := range map[string]bool{"stopped": false, "failed": true} {
		t.Run(name, func(t *testing.T) {
			c, f := small(t)
			clear(c.things)
			const all, atOnce, ahead = 24, 16, 2
			for i := range all {
				n := fmt.Sprintf("bkt%d", i)
				c.things[n] = &thing{typ: "bucket", name: n, attrs: map[string]string{}}
			}
			c.write()
			stop, goOn, failed := make(chan struct{}), make(chan struct{}), make(chan struct{})
			var made atomic.Int64
			f.before = func(string, string, string) error {
				n := made.Add(1)
				if n <= atOnce {
					<-goOn
				}
				if fails && n == 1 {
					return &driver.Error{Message: "no", NotDone: true}
				}
				if fails { // the others end after it
					<-failed
				}
				return nil
			}
			intents := func() int {
				s, err := c.ledger().Load(context.Background())
				require.NoError(t, err)
				return len(s.Intents)
			}
			go func() {
				for intents() < atOnce+ahead {
					time.Sleep(time.Millisecond)
				}
				if !fails {
					close(stop)
				}
				close(goOn)
			}()
			r, err := c.run(f, c.propose(false), func(o *enact.Options) {
				if o.Parallel = atOnce; !fails {
					o.Stop = stop
				}
				o.Event = func(e enact.Event) {
					if e.Kind == enact.EventFailed {
						close(failed)
					}
				}
			})
			require.NoError(t, err)
			require.Equal(t, name, r.Outcome)
			require.EqualValues(t, atOnce, made.Load())
			require.Equal(t, all-atOnce, r.Counts.NotBegun)
			require.Zero(t, intents(), "what was not begun has its result")
			runs, _, err := c.ledger().History(context.Background())
			require.NoError(t, err)
			put := 0
			for _, call := range runs[0].Calls {
				if call.Outcome == string(ledger.NotStarted) {
					put++
				}
			}
			require.Equal(t, ahead, put)
			f.before = nil
			c.enact(c.propose(false))
			require.Len(t, c.live(), all)
		})
	}
}
