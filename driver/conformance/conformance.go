// Package conformance is what every implementation of driver.Driver must pass. It
// tests what a catalogue claims, on things that it makes and deletes again. Tests
// run it by drivertest, and the author of a driver by kasbah types -prove.
package conformance

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/driver"
)

// Sample is a type that the suite may make things of.
type Sample struct {
	Type   string
	Inputs func(n int) value.Map // the n-th thing's; all different
	Edit   driver.Change         // an edit that is allowed; none where From and To are empty
	Few    bool                  // making things is slow or costs: a few are enough
}

// ErrSkipped is what a check ends with that the type gives no reason for.
var ErrSkipped = errors.New("skipped")

func skipped(why string) error { return fmt.Errorf("%w: %s", ErrSkipped, why) }

// Check is one part of the suite.
type Check struct {
	Name string
	Says string // what holds when it passes
	run  func(*Suite, context.Context) error
}

// Checks lists the parts in their order.
func Checks() []Check {
	return []Check{
		{"describe", "the catalogue makes sense", (*Suite).describe},
		{"life", "a thing is made, reads and lists as it was made, is found, edited and deleted", (*Suite).life},
		{"keys", "one key makes one thing, however often it is sent", (*Suite).keys},
		{"locate", "the driver finds what a key made", (*Suite).locate},
		{"tags", "a call with a tag of the past is refused and has no effect", (*Suite).tags},
		{"copies", "a copy is a thing of its own", (*Suite).copies},
		{"gone", "what is deleted is gone for every call", (*Suite).gone},
		{"refusals", "what cannot be is refused, for good and in words", (*Suite).refusals},
		{"pages", "a list holds all that is there, once, while things come and go", (*Suite).pages},
		{"cancelled", "a call that is cancelled ends at once", (*Suite).cancelled},
	}
}

// Suite runs checks against one driver.
type Suite struct {
	d       driver.Driver
	s       Sample
	catalog *schema.Catalog
	typ     *schema.Type

	mu   sync.Mutex
	n    int
	made []string // things that are there still, in the order of their making
}

// New makes a suite for a sample of what a driver offers.
func New(ctx context.Context, d driver.Driver, s Sample) (*Suite, error) {
	catalog, err := d.Describe(ctx)
	if err != nil {
		return nil, err
	}
	typ := catalog.Types[s.Type]
	if typ == nil {
		return nil, fmt.Errorf("it has no type %q; it has %v", s.Type, catalog.Names())
	}
	return &Suite{d: d, s: s, catalog: catalog, typ: typ}, nil
}

// Run runs one check: nil where it passes, ErrSkipped where there is nothing to
// check.
func (x *Suite) Run(ctx context.Context, c Check) error { return c.run(x, ctx) }

// Clean deletes what checks that failed have left behind.
func (x *Suite) Clean(ctx context.Context) error {
	var failed []error
	for _, id := range slices.Backward(slices.Clone(x.made)) {
		if err := x.delete(ctx, id, "", ""); err != nil && !errors.Is(err, driver.ErrGone) {
			failed = append(failed, fmt.Errorf("%s %s is left: %w", x.s.Type, id, err))
		}
	}
	return errors.Join(failed...)
}

func (x *Suite) next() value.Map {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.n++
	return x.s.Inputs(x.n)
}

func (x *Suite) create(ctx context.Context, inputs value.Map, key string) (driver.Live, error) {
	l, err := x.d.Create(ctx, x.s.Type, inputs, key)
	if err != nil {
		return l, fmt.Errorf("create: %w", err)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if !slices.Contains(x.made, l.ID) {
		x.made = append(x.made, l.ID)
	}
	return l, nil
}

func (x *Suite) delete(ctx context.Context, id, tag, key string) error {
	err := x.d.Delete(ctx, x.s.Type, id, tag, key)
	if err == nil || errors.Is(err, driver.ErrGone) {
		x.mu.Lock()
		defer x.mu.Unlock()
		x.made = slices.DeleteFunc(x.made, func(m string) bool { return m == id })
	}
	return err
}

func (x *Suite) list(ctx context.Context) (map[string]driver.Live, error) {
	out := map[string]driver.Live{}
	for l, err := range x.d.List(ctx, x.s.Type) {
		if err != nil {
			return nil, fmt.Errorf("list: %w", err)
		}
		if _, twice := out[l.ID]; twice {
			return nil, fmt.Errorf("%s is listed twice", l.ID)
		}
		out[l.ID] = l
	}
	return out, nil
}

func (x *Suite) editable() bool { return len(x.s.Edit.From)+len(x.s.Edit.To) > 0 }

// same is an error where a thing is not as it should be.
func same(what string, want, is driver.Live) error {
	if want.ID != is.ID || want.Tag != is.Tag {
		return fmt.Errorf("%s: it is %s with tag %s, and was %s with tag %s", what, is.ID, is.Tag, want.ID, want.Tag)
	}
	all := value.CloneMap(want.Attributes)
	for k, v := range is.Attributes {
		all[k] = v
	}
	for _, k := range value.Keys(all) {
		if !value.Equal(want.Attributes[k], is.Attributes[k]) {
			return fmt.Errorf("%s: %s is %s, and was %s", what, k, value.Plain(is.Attributes[k]), value.Plain(want.Attributes[k]))
		}
	}
	return nil
}

// holds is an error where a thing has not the inputs that were given; secrets are
// never shown, and those that others own are not looked at.
func (x *Suite) holds(inputs value.Map, is driver.Live) error {
	for _, k := range value.Keys(inputs) {
		if a := x.typ.Attribute(k); a != nil && a.Secret {
			if _, shown := is.Attributes[k]; shown {
				return fmt.Errorf("the secret %s is shown", k)
			}
			continue
		}
		if !value.Equal(inputs[k], is.Attributes[k]) {
			return fmt.Errorf("%s is %s, not %s", k, value.Plain(is.Attributes[k]), value.Plain(inputs[k]))
		}
	}
	return nil
}
