// Package page shows what watchers find: a page that works without scripts, /healthz, and /metrics.
package page

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"kasbah/core/alert"
	"kasbah/core/chart"
	"kasbah/core/schedule"
	"kasbah/core/value"
)

// Environment is what a watcher knows of one environment.
type Environment struct {
	Name  string
	Wards map[string]*schedule.Schedule // of the estate; nil for one that is not surveyed by schedule
	State *alert.State                  // what the journal said last; nil before it could be read
	Read  time.Time                     // when it did
	Wrong error                         // why the journal cannot be read now; nil while it can
	Since time.Time                     // from when on that is so
	// Look asks for what the journal says now, which Seen hears; nil for one that is not asked.
	Look func()
	// Draw draws the map of a ward, as it is declared; nil for one that cannot be drawn. Its drawing is shared.
	Draw func(ctx context.Context, ward string) (*chart.Drawing, error)
	// Acknowledge writes down that a person knows of an alert, and returns what the journal says then.
	Acknowledge func(ctx context.Context, id string, ack alert.Ack) (*alert.State, error)
}

// Board is what a watcher knows. Its environments are replaced, never changed.
type Board struct {
	Estate string
	Now    func() time.Time

	mu    sync.Mutex
	began time.Time
	envs  map[string]*Environment
}

// NewBoard is the board of a watcher that begins now.
func NewBoard(estate string, now func() time.Time) *Board {
	return &Board{Estate: estate, Now: now, began: now(), envs: map[string]*Environment{}}
}

// Watch says what is watched in an environment from now on. What is known of it stays.
func (b *Board) Watch(e Environment) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if was := b.envs[e.Name]; was != nil {
		e.State, e.Read, e.Wrong, e.Since = was.State, was.Read, was.Wrong, was.Since
	}
	b.envs[e.Name] = &e
}

// Forget drops an environment that is not watched any more.
func (b *Board) Forget(env string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.envs, env)
}

// Seen says what the journal of an environment says now, or why it cannot be read.
func (b *Board) Seen(env string, s *alert.State, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	e := Environment{Name: env}
	if was := b.envs[env]; was != nil {
		e = *was
	}
	switch {
	case err == nil:
		e.State, e.Read, e.Wrong = s, b.Now(), nil
	case e.Wrong == nil:
		e.Wrong, e.Since = err, b.Now()
	default:
		e.Wrong = err
	}
	b.envs[env] = &e
}

// What is shown is this old at most, unless the journal takes longer than a page waits.
const (
	fresh    = time.Second
	patience = 500 * time.Millisecond
)

// Refresh asks for what the journals say now, and waits for it for a moment.
func (b *Board) Refresh(ctx context.Context) {
	asked := map[string]time.Time{}
	for _, e := range b.Environments() {
		if e.Look != nil && b.Now().Sub(e.Read) > fresh {
			asked[e.Name] = e.Read
			e.Look()
		}
	}
	for end := time.Now().Add(patience); len(asked) > 0 && time.Now().Before(end) && ctx.Err() == nil; time.Sleep(10 * time.Millisecond) {
		for _, e := range b.Environments() {
			if was, is := asked[e.Name]; is && (e.Read.After(was) || e.Wrong != nil) {
				delete(asked, e.Name)
			}
		}
	}
}

// Environments lists what is known, by name.
func (b *Board) Environments() []*Environment {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.SortedFunc(maps.Values(b.envs), func(x, y *Environment) int { return strings.Compare(x.Name, y.Name) })
}

// unread is how long a journal may be out of reach before the watcher counts as sick.
const unread = 2 * time.Minute

// Troubles say what is wrong with the watching itself, a sentence each: a journal that cannot be read, and
// surveys that are two periods late.
func (b *Board) Troubles() (out []string) {
	now := b.Now()
	for _, e := range b.Environments() {
		if e.Wrong != nil && now.Sub(e.Since) > unread {
			out = append(out, fmt.Sprintf("%s: the journal cannot be read since %s: %v", e.Name, e.Since.UTC().Format(time.RFC3339), e.Wrong))
		}
		for _, ward := range value.Keys(e.Wards) {
			if e.Wards[ward] == nil {
				continue
			}
			due := e.Wards[ward].Next(e.done(ward, b.began))
			if late := e.Wards[ward].Next(e.Wards[ward].Next(due)); !late.IsZero() && !late.After(now) {
				out = append(out, fmt.Sprintf("%s: the survey of %s that was due at %s is two periods late", e.Name, ward, due.UTC().Format(time.RFC3339)))
			}
		}
	}
	return out
}

// done is the newest slot of a ward that was surveyed, or another time if that is later.
func (e *Environment) done(ward string, least time.Time) time.Time {
	if w := e.ward(ward); w.Done != nil && w.Done.After(least) {
		return *w.Done
	}
	return least
}

// ward is what the journal knows of a ward; nothing for one that it does not know.
func (e *Environment) ward(name string) *alert.Ward {
	if e.State != nil && e.State.Wards[name] != nil {
		return e.State.Wards[name]
	}
	return &alert.Ward{}
}

// wards are the names of the wards of the estate, and of those that have left it with an alert.
func (e *Environment) wards() []string {
	names := map[string]bool{}
	for ward := range e.Wards {
		names[ward] = true
	}
	for _, a := range e.alerts() {
		if a.Phase != alert.Resolved && a.Finding.Ward != "" {
			names[a.Finding.Ward] = true
		}
	}
	return value.Keys(names)
}

// alerts are those of the environment, open ones first.
func (e *Environment) alerts() []*alert.Alert {
	if e.State == nil {
		return nil
	}
	return e.State.Sorted()
}

// next is when a ward is due again; the zero time for one without a schedule.
func (e *Environment) next(ward string, now time.Time) time.Time {
	if s := e.Wards[ward]; s != nil {
		return s.Next(now)
	}
	return time.Time{}
}
