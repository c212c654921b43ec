// Package process is a driver that another program speaks for, in whatever
// language it is written: JSON-RPC 2.0 over its standard streams, as
// docs/formats/driver.md says. A program that hangs, floods, lies or dies costs
// the calls that it was asked to make and nothing else; the next call starts
// it again.
package process

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"sync"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/drivers/openapi"
)

// Options of a driver.
type Options struct {
	Name     string    // of the driver, for its log
	Command  []string  // the program and its arguments
	Dir      string    // where it runs
	Env      []string  // names of environment variables that it gets besides those of environ.For
	Settings value.Map // are given to it as they are
	From     string    // who acts
	Log      func(line string)
	Redact   func(line string) string // takes secrets out of what the program logs; nil for none
}

// Driver is a driver that a program speaks for. It is started at the first call.
type Driver struct {
	o Options

	mu      sync.Mutex
	child   *child // nil before the first call
	closed  bool
	catalog *schema.Catalog // once described
}

var (
	_ driver.Driver    = (*Driver)(nil)
	_ driver.Vetter    = (*Driver)(nil)
	_ driver.Rehearser = (*Driver)(nil)
	_ driver.Feed      = (*Driver)(nil)
	_ driver.Copier    = (*Driver)(nil)
	_ driver.Locator   = (*Driver)(nil)
)

const maxPages = 1_000_000

// New names the program. Nothing is started yet.
func New(o Options) (*Driver, error) {
	if len(o.Command) == 0 || o.Command[0] == "" {
		return nil, errors.New("it names no program")
	}
	return &Driver{o: o}, nil
}

// running is the program, started when it does not run.
func (d *Driver) running(ctx context.Context) (*child, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed {
		return nil, errors.New("the driver is closed")
	}
	if d.child != nil && !d.child.gone() {
		return d.child, nil
	}
	c, err := d.start(ctx)
	if err != nil {
		return nil, err
	}
	d.child = c
	return c, nil
}

// Close ends the program.
func (d *Driver) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.closed = true
	if d.child != nil {
		d.child.close()
	}
	return nil
}

// Describe asks the program for its catalogue, once.
func (d *Driver) Describe(ctx context.Context) (*schema.Catalog, error) {
	c, err := d.running(ctx)
	if err != nil {
		return nil, err
	}
	d.mu.Lock()
	known := d.catalog
	d.mu.Unlock()
	if known != nil {
		return known, nil
	}
	ctx, cancel := context.WithTimeout(ctx, startWithin)
	defer cancel()
	var r catalogResult
	if err := c.call(ctx, "describe", struct{}{}, &r, false); err != nil {
		if errors.Is(err, context.DeadlineExceeded) {
			err = c.reason(ctx, err)
		}
		return nil, err
	}
	catalog, err := openapi.Components(r.Version, r.Types)
	if err != nil {
		return nil, fmt.Errorf("what its program describes cannot be used: %w", err)
	}
	for _, t := range catalog.Types {
		t.Copies, t.Locate = slices.Contains(c.offer, "copy"), slices.Contains(c.offer, "locate")
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.catalog = catalog
	return catalog, nil
}

// ready is the program, when a type is one of its.
func (d *Driver) ready(ctx context.Context, typ string) (*child, error) {
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	c, err := d.Describe(ctx)
	if err != nil {
		return nil, err
	}
	if c.Types[typ] == nil {
		return nil, fmt.Errorf("the driver has no type %q", typ)
	}
	return d.running(ctx)
}

// ask asks the program for one thing. asked is the id that it must have, "" for
// any.
func (d *Driver) ask(ctx context.Context, method string, p thingParams, asked string, changes bool) (driver.Live,
	error) {
	c, err := d.ready(ctx, p.Type)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	var t thing
	if err := c.call(ctx, method, p, &t, changes); err != nil {
		return driver.Live{}, err
	}
	l, err := d.live(p.Type, asked, t)
	if err != nil {
		return driver.Live{}, driver.Uncertain(err, "")
	}
	return l, nil
}

// live turns what the program shows into what the core knows.
func (d *Driver) live(typ, asked string, t thing) (driver.Live, error) {
	m, err := attributes(t.Attributes)
	switch {
	case err != nil:
		return driver.Live{}, fmt.Errorf("its driver shows %s that cannot be read: %w", schema.WithArticle(typ), err)
	case t.ID == "":
		return driver.Live{}, fmt.Errorf("its driver shows %s without an id", schema.WithArticle(typ))
	case asked != "" && t.ID != asked:
		return driver.Live{}, fmt.Errorf("its driver was asked about %s and shows %s", short(asked), short(t.ID))
	}
	is := d.catalog.Types[typ]
	for name, v := range m {
		a := is.Attribute(name)
		if a != nil {
			m[name] = a.Shown(v)
		}
		if a != nil && a.Secret && !a.Output {
			delete(m, name) // it was given, and nobody asked to see it
		}
	}
	m[is.ID] = t.ID
	return driver.Live{ID: t.ID, Tag: t.Tag, Attributes: m}, nil
}

// Vet asks the program what it can tell about inputs, where it offers that.
func (d *Driver) Vet(ctx context.Context, typ string, inputs value.Map) []driver.Problem {
	c, err := d.ready(ctx, typ)
	if err != nil || !slices.Contains(c.offer, "vet") {
		return nil
	}
	var r problemsResult
	if err := c.call(ctx, "vet", thingParams{Type: typ, Inputs: object(inputs)}, &r, false); err != nil {
		return []driver.Problem{{Message: err.Error()}}
	}
	var out []driver.Problem
	for _, p := range r.Problems {
		out = append(out, driver.Problem(p))
	}
	return out
}

// Rehearsals says whether the program offers to try calls. It is asked once it runs.
func (d *Driver) Rehearsals() (can, together bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	can = d.child != nil && slices.Contains(d.child.offer, "rehearse")
	return can, can
}

// Rehearse has the program try calls without effect.
func (d *Driver) Rehearse(ctx context.Context, calls []driver.Call) ([]driver.Tried, error) {
	c, err := d.running(ctx)
	if err != nil {
		return nil, err
	}
	p := rehearseParams{Calls: make([]rehearseCall, len(calls))}
	written := func(m value.Map) json.RawMessage {
		if m == nil {
			return nil
		}
		return object(driver.Written(m).(value.Map))
	}
	for i, one := range calls {
		p.Calls[i] = rehearseCall{Do: one.Do, Type: one.Type, ID: one.ID, Inputs: written(one.Inputs)}
		if one.Do == "update" {
			p.Calls[i].From, p.Calls[i].To = written(one.Change.From), written(one.Change.To)
		}
	}
	var r rehearseResult
	if err := c.call(ctx, "rehearse", p, &r, false); err != nil {
		return nil, err
	}
	if len(r.Results) != len(calls) {
		return nil, fmt.Errorf("its program gave %d results for %d calls", len(r.Results), len(calls))
	}
	out := make([]driver.Tried, len(calls))
	for i, one := range r.Results {
		if out[i].Tried = one.Tried; !one.Tried || len(one.Problems) == 0 {
			continue
		}
		e := &driver.Error{Message: one.Problems[0].Message, NotDone: true}
		for _, said := range one.Problems {
			e.Problems = append(e.Problems, driver.Problem(said))
		}
		out[i].Err = e
	}
	return out, nil
}

// Read reads one thing.
func (d *Driver) Read(ctx context.Context, typ, id string) (driver.Live, error) {
	return d.ask(ctx, "read", thingParams{Type: typ, ID: id}, id, false)
}

// List reads every thing of a type, a page at a time.
func (d *Driver) List(ctx context.Context, typ string) iter.Seq2[driver.Live, error] {
	return func(yield func(driver.Live, error) bool) {
		p := thingParams{Type: typ}
		for range maxPages {
			c, err := d.ready(ctx, typ)
			var page thingsResult
			if err == nil {
				err = c.call(ctx, "list", p, &page, false)
			}
			if err != nil {
				yield(driver.Live{}, err)
				return
			}
			for _, t := range page.Things {
				l, err := d.live(typ, "", t)
				if !yield(l, err) || err != nil {
					return
				}
			}
			if page.Next == "" {
				return
			}
			if page.Next == p.After {
				break
			}
			p.After = page.Next
		}
		yield(driver.Live{}, &driver.Error{Message: fmt.Sprintf("its driver's list of %s does not end", typ)})
	}
}

// Find reads the things whose attributes equal those of match: by the program
// where it offers that, else out of the list.
func (d *Driver) Find(ctx context.Context, typ string, match value.Map) ([]driver.Live, error) {
	c, err := d.ready(ctx, typ)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(c.offer, "find") {
		return driver.FindInList(d.List(ctx, typ), match)
	}
	var out []driver.Live
	var r thingsResult
	if err := c.call(ctx, "find", thingParams{Type: typ, Match: object(match)}, &r, false); err != nil {
		return nil, err
	}
	for _, t := range r.Things {
		l, err := d.live(typ, "", t)
		if err != nil {
			return nil, err
		}
		if l.Matches(match) {
			out = append(out, l)
		}
	}
	return out, nil
}

// Create makes a thing.
func (d *Driver) Create(ctx context.Context, typ string, inputs value.Map, key string) (driver.Live, error) {
	return d.ask(ctx, "create", thingParams{Type: typ, Inputs: object(inputs), Key: key}, "", true)
}

// Update changes a thing.
func (d *Driver) Update(ctx context.Context, typ, id string, change driver.Change, tag, key string) (driver.Live,
	error) {
	return d.ask(ctx, "update", thingParams{Type: typ, ID: id, From: object(change.From), To: object(change.To),
		All: object(change.All), Tag: tag, Key: key}, id, true)
}

// Copy copies a thing.
func (d *Driver) Copy(ctx context.Context, typ, id, key string) (driver.Live, error) {
	return d.ask(ctx, "copy", thingParams{Type: typ, ID: id, Key: key}, "", true)
}

// Locate asks the program what a key made.
func (d *Driver) Locate(ctx context.Context, typ, key string) (driver.Live, error) {
	return d.ask(ctx, "locate", thingParams{Type: typ, Key: key}, "", false)
}

// Delete deletes a thing.
func (d *Driver) Delete(ctx context.Context, typ, id, tag, key string) error {
	c, err := d.ready(ctx, typ)
	if err != nil {
		return driver.Unsent(err)
	}
	var nothing any
	return c.call(ctx, "delete", thingParams{Type: typ, ID: id, Tag: tag, Key: key}, &nothing, true)
}

// Changes reads the program's change feed; nothing where it offers none. A program tells what
// happened oldest first, page by page, so all that is asked for is read first.
func (d *Driver) Changes(ctx context.Context, which driver.Events) iter.Seq2[driver.Event, error] {
	return func(yield func(driver.Event, error) bool) {
		p := thingParams{Type: which.Type, ID: which.ID}
		if !which.Since.IsZero() {
			p.Since = &which.Since
		}
		var all []driver.Event
		for range maxPages {
			c, err := d.running(ctx)
			if err == nil && !slices.Contains(c.offer, "changes") {
				return
			}
			var page eventsResult
			if err == nil {
				err = c.call(ctx, "changes", p, &page, false)
			}
			if err != nil {
				yield(driver.Event{}, err)
				return
			}
			for _, e := range page.Events {
				all = append(all, driver.Event(e))
			}
			if page.Next == "" || page.Next == p.After {
				break
			}
			p.After = page.Next
		}
		driver.NewestFirst(all, yield)
	}
}
