// Package conformance is what every implementation of driver.Driver must pass. It
// tests what a catalogue claims, on things that it makes and deletes again. Tests
// run it by drivertest, and the author of a driver by kasbah types -prove.
package conformance

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
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

	looks bool // it cannot be run where the cloud shows no things of the type
}

// Checks lists the parts in their order.
func Checks() []Check {
	return []Check{
		{"describe", "the catalogue makes sense", (*Suite).describe, false},
		{"life", "a thing is made, reads and lists as it was made, is found, edited and deleted", (*Suite).life, false},
		{"keys", "one key makes one thing, however often it is sent", (*Suite).keys, true},
		{"locate", "the driver finds what a key made", (*Suite).locate, true},
		{"tags", "a call with a tag of the past is refused and has no effect", (*Suite).tags, true},
		{"copies", "a copy is a thing of its own", (*Suite).copies, true},
		{"gone", "what is deleted is gone for every call", (*Suite).gone, true},
		{"refusals", "what cannot be is refused, for good and in words", (*Suite).refusals, true},
		{"pages", "a list holds all that is there, once, while things come and go", (*Suite).pages, true},
		{"cancelled", "a call that is cancelled ends at once", (*Suite).cancelled, true},
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
	made []string    // things that are there still, in the order of their making
	lost []value.Map // inputs of those of which nobody knows whether they were made
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
func (x *Suite) Run(ctx context.Context, c Check) error {
	if c.looks && (x.typ.Unshown || x.typ.Unlisted) {
		return skipped("the cloud shows no list of the type's things")
	}
	return c.run(x, ctx)
}

// Prove runs all checks on one type of a driver, which is called name, tells what became of
// each, and cleans up. The error says what could not be deleted; what failed is in the proof.
func Prove(ctx context.Context, name string, d driver.Driver, s Sample, tell func(driver.ProofCheck) error) (
	*driver.Proof, error) {
	suite, err := New(ctx, d, s)
	if err != nil {
		return nil, err
	}
	p := &driver.Proof{Format: "kasbah.proof/1", Driver: name, Type: s.Type, Checks: []driver.ProofCheck{}}
	for _, check := range Checks() {
		out := driver.ProofCheck{Name: check.Name, Says: check.Says, Outcome: "passed"}
		err := suite.Run(ctx, check)
		switch {
		case errors.Is(err, ErrSkipped):
			out.Outcome, out.Error = "skipped", strings.TrimPrefix(err.Error(), ErrSkipped.Error()+": ")
			p.Skipped++
		case err != nil:
			out.Outcome, out.Error = "failed", err.Error()
			p.Failed++
		default:
			p.Passed++
		}
		p.Checks = append(p.Checks, out)
		if err := tell(out); err != nil {
			return p, errors.Join(err, suite.Clean(context.WithoutCancel(ctx)))
		}
		if ctx.Err() != nil {
			break
		}
	}
	return p, suite.Clean(context.WithoutCancel(ctx))
}

// Clean deletes what checks that failed have left behind, also what nobody knows to have
// been made. It says what it could not delete.
func (x *Suite) Clean(ctx context.Context) error {
	var failed []error
	if len(x.lost) > 0 && (x.typ.Unshown || x.typ.Unlisted) {
		failed = append(failed, fmt.Errorf("%d of type %s may be left, and no list shows them", len(x.lost), x.s.Type))
	} else if len(x.lost) > 0 {
		for l, err := range x.d.List(ctx, x.s.Type) {
			if err != nil {
				failed = append(failed, fmt.Errorf("%d of type %s may be left, and cannot be looked for: %w",
					len(x.lost), x.s.Type, err))
				break
			}
			if slices.ContainsFunc(x.lost, func(inputs value.Map) bool { return x.holds(inputs, l) == nil }) &&
				!slices.Contains(x.made, l.ID) {
				x.made = append(x.made, l.ID)
			}
		}
	}
	for _, id := range slices.Backward(slices.Clone(x.made)) {
		if err := x.delete(ctx, id, "", ""); err != nil && !errors.Is(err, driver.ErrGone) {
			failed = append(failed, fmt.Errorf("%s %s is left: %w", x.s.Type, id, err))
		}
	}
	return errors.Join(failed...)
}

// change is the sample's edit of a thing with some inputs.
func (x *Suite) change(inputs value.Map) driver.Change {
	c := driver.Change{From: value.Map{}, To: value.Map{}, All: value.CloneMap(inputs)}
	maps.Copy(c.From, x.s.Edit.From)
	maps.Copy(c.To, x.s.Edit.To)
	for k := range x.s.Edit.From {
		if _, stays := c.To[k]; !stays {
			delete(c.All, k)
		}
	}
	for k, v := range c.To {
		if old, given := inputs[k]; given {
			c.From[k] = old
		}
		c.All[k] = v
	}
	return c
}

func (x *Suite) next() value.Map {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.n++
	return x.s.Inputs(x.n)
}

func (x *Suite) create(ctx context.Context, inputs value.Map, key string) (driver.Live, error) {
	l, err := x.d.Create(ctx, x.s.Type, value.CloneMap(inputs), key)
	x.mu.Lock()
	defer x.mu.Unlock()
	if err != nil {
		if l.ID == "" {
			l.ID = driver.MadeBy(err)
		}
		switch {
		case driver.OutcomeOf(err) != driver.Unknown:
		case l.ID != "":
			x.made = append(x.made, l.ID)
		default:
			x.lost = append(x.lost, inputs)
		}
		return l, fmt.Errorf("create: %w", err)
	}
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
			return fmt.Errorf("%s: %s is %s, and was %s", what, k, value.Plain(is.Attributes[k]),
				value.Plain(want.Attributes[k]))
		}
	}
	return nil
}

// alike is same for what one claims of two ways to see a thing: inputs are as they were, and
// outputs that both show.
func (x *Suite) alike(what string, want, is driver.Live) error {
	if want.ID != is.ID || x.typ.Tags && want.Tag != is.Tag {
		return same(what, want, is)
	}
	for _, a := range x.typ.Attributes {
		was, shown1 := want.Attributes[a.Name]
		now, shown2 := is.Attributes[a.Name]
		if a.Moves || a.Output && (!shown1 || !shown2) || value.Equal(was, now) || value.Empty(was) && value.Empty(now) {
			continue
		}
		hint := x.toWrite(a, was, now)
		if a.Output {
			hint = "where others change it, moves: true for it"
		}
		return fmt.Errorf("%s: %s is %s, and was %s%s", what, a.Name, value.Plain(now), value.Plain(was), written(hint))
	}
	return nil
}

// unlike is the error of a call that ended otherwise than it should.
func unlike(what string, err error, write string) error {
	if err == nil {
		return fmt.Errorf("%s is taken as if all were well%s", what, written(write))
	}
	return fmt.Errorf("%s: %w%s", what, err, written(write))
}

func written(hint string) string {
	if hint == "" {
		return ""
	}
	return "; " + hint
}

// toWrite says what a document is to say of an attribute that shows otherwise than it was
// given.
func (x *Suite) toWrite(a *schema.Attribute, given, shown any) string {
	text1, ok1 := given.(string)
	text2, ok2 := shown.(string)
	list1, ok3 := given.([]any)
	list2, ok4 := shown.([]any)
	switch {
	case shown == nil:
		return "where it is never shown, shown: false for it"
	case ok1 && ok2 && text1 != text2 && span.Canonical(text1) == span.Canonical(text2):
		return "where it is a duration, same: duration for it"
	case ok1 && ok2 && strings.EqualFold(text1, text2):
		return "where case says nothing, same: lower for it"
	case ok3 && ok4 && len(list1) == len(list2) && setOf(list1) == setOf(list2):
		return "where order says nothing, set: true for it"
	case ok3 && ok4 || a.Kind == schema.Record:
		return "where the API fills something in, default for that part of it"
	case given == nil:
		return "where the API decides it, output: true for it"
	}
	return ""
}

// span is an attribute that holds a duration.
var span = &schema.Attribute{Kind: schema.Text, Format: schema.FormatSpan}

func setOf(list []any) string {
	var all []string
	for _, v := range list {
		all = append(all, string(value.Encode(v)))
	}
	slices.Sort(all)
	return strings.Join(all, " ")
}

// holds is an error where a thing has not the inputs that were given; secrets are
// never shown, and those that others own are not looked at.
func (x *Suite) holds(inputs value.Map, is driver.Live) error {
	for _, k := range value.Keys(inputs) {
		if a := x.typ.Attribute(k); a != nil && a.Secret && !a.Output {
			if _, shown := is.Attributes[k]; shown {
				return fmt.Errorf("the secret %s is shown", k)
			}
			continue
		}
		a := x.typ.Attribute(k)
		given, shown := inputs[k], is.Attributes[k]
		if a != nil {
			given, shown = a.Canonical(value.Clone(given)), a.Canonical(value.Clone(shown))
		}
		if a != nil && a.Unshown || value.Equal(given, shown) || value.Empty(given) && value.Empty(shown) {
			continue
		}
		hint := ""
		if a != nil {
			hint = x.toWrite(a, given, shown)
		}
		return fmt.Errorf("%s is %s, not %s%s", k, value.Plain(shown), value.Plain(given), written(hint))
	}
	return nil
}
