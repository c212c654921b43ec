// Package watch surveys on a schedule. Any number of watchers share the work through the journal of an
// environment: whoever is first to append a claim surveys the ward, and writes down what the survey
// changes.
package watch

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"github.com/oklog/ulid/v2"
	"golang.org/x/sync/errgroup"

	"kasbah/core/alert"
	"kasbah/core/ledger"
	"kasbah/core/schedule"
	"kasbah/core/value"
)

// Options is what a watcher of one environment is made from.
type Options struct {
	Env     string
	Journal *ledger.Ledger
	Command string // for the journal: the command line
	// Wards are those that are watched, with when. It is asked again and again: what it says may have
	// changed.
	Wards  func() map[string]*schedule.Schedule
	Survey func(ctx context.Context, ward string) (*Found, error)
	// Receivers are those who are told of alerts; none while it is nil, and what happens then is told to
	// nobody later either. It is asked again and again.
	Receivers func() []Receiver
	AtOnce    int // how many wards are surveyed at once; 1 where it is less
	Log       *slog.Logger
	Clock     Clock
}

// Clock is the time by which wards are due.
type Clock interface {
	Now() time.Time
	// After tells when some time has passed.
	After(d time.Duration) <-chan time.Time
}

// Found is what the survey of a ward found.
type Found struct {
	Findings []alert.Finding
	Unsure   map[string]bool // addresses that could not be looked at
	Counts   map[string]int  // resources by verdict
	Failed   string          // what could not be surveyed, and why; "" for a whole survey
}

// often is how often a watcher looks at what others have written, and at what is due.
const often = 10 * time.Second

// patience is how long a watcher waits at most before it tries again to reach a store.
const patience = time.Minute

// tooOften is how many failures in a row are an alert.
const tooOften = 3

// Watch surveys what is due, again and again, until the context ends. What goes wrong is logged, and
// tried again.
func (o Options) Watch(ctx context.Context) {
	wait := time.Second
	for ctx.Err() == nil {
		began := o.Clock.Now()
		err := o.session(ctx, func(w *watcher) error {
			g, ctx := errgroup.WithContext(ctx)
			g.Go(func() error { return w.deliverOn(ctx) })
			g.Go(func() error {
				for {
					if err := w.turn(ctx); err != nil {
						return err
					}
					select {
					case <-ctx.Done():
						return ctx.Err()
					case <-o.Clock.After(w.rest()):
					}
				}
			})
			return g.Wait()
		})
		if ctx.Err() != nil {
			return
		}
		if o.Clock.Now().Sub(began) > patience {
			wait = time.Second
		}
		o.Log.Error("the journal cannot be used; trying again", "env", o.Env, "error", err, "in", wait)
		select {
		case <-ctx.Done():
		case <-o.Clock.After(wait):
		}
		wait = min(2*wait, patience)
	}
}

// Done counts surveys.
type Done struct{ Surveyed, Failed int }

// Once surveys what is due, and ends.
func (o Options) Once(ctx context.Context) (n Done, err error) {
	err = o.session(ctx, func(w *watcher) error {
		err := w.turn(ctx)
		n = w.done
		if err == nil {
			err = w.deliver(ctx)
		}
		return err
	})
	return n, err
}

// Now surveys some wards, whether they are due or not.
func (o Options) Now(ctx context.Context, wards []string) (n Done, err error) {
	err = o.session(ctx, func(w *watcher) error {
		g := w.group()
		for _, ward := range wards {
			g.Go(func() error { return w.survey(ctx, ward, nil) })
		}
		err := g.Wait()
		n = w.done
		if err == nil {
			err = w.deliver(ctx)
		}
		return err
	})
	return n, err
}

// Note writes down what somebody else's surveys found, by ward.
func (o Options) Note(ctx context.Context, found map[string]*Found) error {
	return o.session(ctx, func(w *watcher) error {
		for _, ward := range value.Keys(found) {
			if err := w.note(ctx, &alert.Survey{Ward: ward}, found[ward], true); err != nil {
				return err
			}
		}
		return nil
	})
}

// watcher is a run on the journal.
type watcher struct {
	Options
	run   *ledger.Run
	vigil ledger.Vigil

	told deliveries
	news chan struct{} // there may be something to deliver

	mu   sync.Mutex
	done Done
}

// session is a run on the journal. What it has claimed and not ended is given back with its end.
func (o Options) session(ctx context.Context, do func(w *watcher) error) error {
	id := ulid.Make().String()
	run, err := o.Journal.Begin(ctx, ledger.BeginOptions{ID: id, Command: o.Command,
		Scope: ledger.NewScope([]string{"watcher/" + id}, nil)})
	if err != nil {
		return err
	}
	w := &watcher{Options: o, run: run, news: make(chan struct{}, 1),
		told: deliveries{wait: map[string]time.Duration{}, again: map[string]time.Time{}}}
	err = do(w)
	end := ledger.End{Outcome: "done"}
	if err != nil && ctx.Err() == nil {
		end.Outcome = "failed"
	}
	if endErr := run.End(ctx, end); endErr != nil && err == nil {
		err = endErr
	}
	return err
}

func (w *watcher) group() *errgroup.Group {
	g := &errgroup.Group{}
	g.SetLimit(max(1, w.AtOnce))
	return g
}

// turn gives back what dead watchers have claimed, and surveys what is due.
func (w *watcher) turn(ctx context.Context) error {
	dead, err := w.vigil.Dead(ctx, w.run)
	if err != nil {
		return err
	}
	for _, run := range dead {
		w.Log.Warn("another watcher is dead; what it surveyed is free again", "env", w.Env, "run", ledger.ShortRun(run))
		if err := w.Journal.Break(ctx, run, "its watcher is dead", w.run.ID); err != nil {
			w.Log.Warn("it could not be taken for dead", "env", w.Env, "run", ledger.ShortRun(run), "error", err)
		}
	}
	if len(dead) > 0 {
		if err := w.run.Look(ctx); err != nil {
			return err
		}
	}
	g := w.group()
	for _, c := range w.due(w.Wards()) {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error {
			if mine, err := w.claim(ctx, c); err != nil || !mine {
				return err
			}
			return w.survey(ctx, c.Ward, &c.Due)
		})
	}
	return errors.Join(g.Wait(), ctx.Err())
}

// due are the slots that are due and free, the oldest first.
func (w *watcher) due(wards map[string]*schedule.Schedule) []alert.Claim {
	now := w.Clock.Now()
	var out []alert.Claim
	w.run.Journal(func(s *alert.State) {
		for _, ward := range value.Keys(wards) {
			if c := (alert.Claim{Ward: ward, Due: wards[ward].Last(now)}); !c.Due.IsZero() && s.Free(c) {
				out = append(out, c)
			}
		}
	})
	return out
}

// rest is how long there is nothing to do, as far as is known.
func (w *watcher) rest() time.Duration {
	now, rest := w.Clock.Now(), often
	for _, s := range w.Wards() {
		if next := s.Next(now); !next.IsZero() {
			rest = min(rest, next.Sub(now))
		}
	}
	return rest
}

// claim takes a slot, and reports whether it was the first to do so.
func (w *watcher) claim(ctx context.Context, c alert.Claim) (mine bool, err error) {
	if err := w.run.Append(ctx, watchLine(&alert.Line{Claim: &c})); err != nil {
		return false, err
	}
	w.run.Journal(func(s *alert.State) { mine = s.Claimed(c, w.run.ID) })
	return mine, nil
}

// survey surveys a ward for a slot, or beside the schedule for nil, and writes down what that changes.
// A ward that cannot be surveyed is no error: the journal says so.
func (w *watcher) survey(ctx context.Context, ward string, due *time.Time) error {
	began := w.Clock.Now()
	found, err := w.Survey(ctx, ward)
	if err != nil && ctx.Err() != nil {
		return ctx.Err() // the slot is given back
	}
	if err != nil {
		found = &Found{Failed: err.Error()}
	}
	return w.note(ctx, &alert.Survey{Ward: ward, Due: due, Seconds: w.Clock.Now().Sub(began).Seconds()}, found, err == nil)
}

// note writes down what a survey found and what that changes. looked says whether it found out anything.
func (w *watcher) note(ctx context.Context, v *alert.Survey, found *Found, looked bool) error {
	v.Counts, v.Error = found.Counts, found.Failed
	var lines []ledger.Line
	w.run.Journal(func(s *alert.State) {
		for _, e := range w.events(s, v.Ward, found, looked) {
			if w.Receivers != nil && len(w.Receivers()) > 0 {
				e.Message = ulid.Make().String()
			}
			lines = append(lines, watchLine(&alert.Line{Event: &e}))
		}
	})
	log := w.Log.With("env", w.Env, "ward", v.Ward)
	for _, l := range lines {
		log.Info("alert "+string(l.Watch.Event.Kind), "alert", l.Watch.Event.ID)
	}
	if log = log.With("seconds", v.Seconds); found.Failed != "" {
		log.Error("the ward could not be surveyed", "error", found.Failed)
	} else {
		log.Info("surveyed", "differs", found.Counts[alert.Differs], "gone", found.Counts[alert.Gone])
	}
	w.mu.Lock()
	if w.done.Surveyed++; found.Failed != "" {
		w.done.Failed++
	}
	w.mu.Unlock()
	// what was surveyed is written down, even if the watcher ends now
	err := w.run.Append(context.WithoutCancel(ctx), append(lines, watchLine(&alert.Line{Survey: v}))...)
	select {
	case w.news <- struct{}{}:
	default:
	}
	return err
}

// events are what a survey changes. What could not be looked at stays as it is known; failures in a row
// are an alert of their own.
func (w *watcher) events(s *alert.State, ward string, found *Found, looked bool) []alert.Event {
	findings := found.Findings
	if found.Failed != "" {
		failures := 1
		if known := s.Wards[ward]; known != nil {
			failures += known.Failures
		}
		if failures >= tooOften {
			findings = append(findings, alert.Finding{Ward: ward, Verdict: alert.Failed,
				Because: fmt.Sprintf("it could not be surveyed %d times in a row", tooOften)})
		}
	}
	unsure := func(address string) bool { return address != "" && (!looked || found.Unsure[address]) }
	return s.Compare(w.Env, ward, findings, unsure, w.Clock.Now().Format(time.DateOnly))
}
