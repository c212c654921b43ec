package watch

import (
	"context"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"kasbah/core/alert"
	"kasbah/core/ledger"
)

// Receiver is somebody who is told of alerts.
type Receiver interface {
	// Name tells it from the others, and stays the same.
	Name() string
	// Wants reports whether it is to be told of such a message.
	Wants(m *alert.Message) bool
	// Send tells it. It may have been told already: the message's id says so.
	Send(ctx context.Context, m *alert.Message) error
}

const (
	sendTime  = 30 * time.Second // that one try may take
	firstWait = 10 * time.Second // after a try that failed, twice as long after each further one
	longest   = 15 * time.Minute // between two tries
	giveUp    = 24 * time.Hour
)

// deliveries is what a watcher knows of receivers: when each is to be tried again.
type deliveries struct {
	mu    sync.Mutex
	wait  map[string]time.Duration
	again map[string]time.Time
}

func newDeliveries() *deliveries {
	return &deliveries{wait: map[string]time.Duration{}, again: map[string]time.Time{}}
}

// later reports whether a receiver is to be left alone for now.
func (d *deliveries) later(name string, now time.Time) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return now.Before(d.again[name])
}

// toTell reports whether something in the outbox can be told now.
func (o Options) toTell(j journal, told *deliveries) (some bool) {
	now := o.Clock.Now()
	j.Journal(func(s *alert.State) {
		for _, m := range s.Outbox {
			waits := slices.ContainsFunc(o.Receivers, func(r Receiver) bool { return r.Wants(m) && !m.Done[r.Name()] })
			some = some || !waits || slices.ContainsFunc(o.Receivers, func(r Receiver) bool {
				return r.Wants(m) && !m.Done[r.Name()] && !told.later(r.Name(), now)
			})
		}
	})
	return some
}

// deliver tells receivers what is in the outbox, if this watcher is the one that does: the oldest. What
// belongs to one alert is told in its order, at least once.
func (w *watcher) deliver(ctx context.Context) error {
	if !w.run.Oldest("watcher/") {
		return nil
	}
	var outbox []*alert.Message
	w.run.Journal(func(s *alert.State) { outbox = slices.Clone(s.Outbox) })
	var g errgroup.Group
	for _, r := range w.Receivers {
		g.Go(func() error { return w.tell(ctx, r, outbox) })
	}
	if err := g.Wait(); err != nil {
		return err
	}
	var lines []ledger.Line
	w.run.Journal(func(s *alert.State) {
		for _, m := range s.Outbox {
			if !slices.ContainsFunc(w.Receivers, func(r Receiver) bool { return r.Wants(m) && !m.Done[r.Name()] }) {
				lines = append(lines, watchLine(&alert.Line{Delivery: &alert.Delivery{Message: m.ID}}))
			}
		}
	})
	if lines == nil {
		return nil
	}
	return w.run.Append(ctx, lines...)
}

// tell tells one receiver what waits for it, until it fails.
func (w *watcher) tell(ctx context.Context, r Receiver, outbox []*alert.Message) error {
	name := r.Name()
	if w.told.later(name, w.Clock.Now()) {
		return nil
	}
	for _, m := range outbox {
		if m.Done[name] || !r.Wants(m) {
			continue
		}
		try, cancel := context.WithTimeout(ctx, sendTime)
		err := r.Send(try, m)
		cancel()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if w.Meter != nil {
			w.Meter.Told(w.Env, name, err)
		}
		d := &alert.Delivery{Message: m.ID, To: name}
		if err != nil {
			w.failed(name, err)
			if w.Clock.Now().Sub(m.At) < giveUp {
				return nil // what comes behind it waits
			}
			d.GaveUp = err.Error()
		} else {
			w.told.mu.Lock()
			delete(w.told.wait, name)
			delete(w.told.again, name)
			w.told.mu.Unlock()
			w.Log.Info("told", "env", w.Env, "to", name, "event", m.Type(), "subject", m.Subject())
		}
		if err := w.run.Append(ctx, append(w.untold(name, d.GaveUp), watchLine(&alert.Line{Delivery: d}))...); err != nil {
			return err
		}
	}
	return nil
}

// failed notes that a receiver cannot be reached now.
func (w *watcher) failed(name string, err error) {
	w.told.mu.Lock()
	defer w.told.mu.Unlock()
	wait := min(max(2*w.told.wait[name], firstWait), longest)
	w.told.wait[name], w.told.again[name] = wait, w.Clock.Now().Add(wait)
	w.Log.Error("a receiver could not be told; trying again", "env", w.Env, "to", name, "error", err, "in", wait)
}

// untold are the lines by which what could not be delivered becomes an alert of its own, and ends as one.
// Nobody is told of it: that is what does not work.
func (w *watcher) untold(name, because string) (lines []ledger.Line) {
	f := alert.Finding{Verdict: alert.Untold, Path: name, Because: because}
	w.run.Journal(func(s *alert.State) {
		a := s.Alerts[f.ID(w.Env)]
		open := a != nil && a.Phase != alert.Resolved
		switch {
		case because != "" && !open:
			lines = append(lines, watchLine(&alert.Line{Event: &alert.Event{Kind: alert.WasOpened, ID: f.ID(w.Env), Finding: &f}}))
		case because == "" && open:
			lines = append(lines, watchLine(&alert.Line{Event: &alert.Event{Kind: alert.WasResolved, ID: f.ID(w.Env)}}))
		}
	})
	return lines
}

func watchLine(l *alert.Line) ledger.Line { return ledger.Line{Kind: ledger.KindWatch, Watch: l} }

// deliverUntil delivers again and again, and a last time when all is surveyed.
func (w *watcher) deliverUntil(ctx context.Context, surveyed <-chan struct{}) error {
	for last := false; ; {
		if err := w.deliver(ctx); err != nil || last {
			return err
		}
		select {
		case <-surveyed:
			last = true
		case <-ctx.Done():
			return ctx.Err()
		case <-w.news:
		case <-w.Clock.After(often / 2):
		}
	}
}
