package watch

import (
	"context"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"kasbah/core/alert"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// lookEvery is how often a watcher looks which runs the ledgers of wards have.
const lookEvery = time.Minute

// ledgersAtOnce is how many ledgers are read at the same time.
const ledgersAtOnce = 8

// ledgers is what a watcher reads of runs in the ledgers of wards.
type ledgers struct {
	mu     sync.Mutex
	looked time.Time
	of     map[string]*followed // by ward
}

// followed is the ledger of one ward.
type followed struct {
	f     *ledger.Follower // nil until it could be read
	ended []alert.Run      // that the journal may not know of yet, oldest first
	dead  map[string]alert.Run
	alive map[string]alert.Run // that have written something, though others may take them for dead
	wrong string               // why it cannot be read now, as it was logged
}

// look reads the ledgers, if it is time for it. One that cannot be read is logged once; surveys of its ward
// say so as well.
func (l *ledgers) look(ctx context.Context, o Options, j journal) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := o.Clock.Now()
	if len(o.Ledgers) == 0 || now.Sub(l.looked) < lookEvery {
		return
	}
	l.looked = now
	entries := map[string]int64{}
	j.Journal(func(s *alert.State) {
		for ward, w := range s.Wards {
			if w.Entry != nil {
				entries[ward] = *w.Entry
			}
		}
	})
	var g errgroup.Group
	g.SetLimit(ledgersAtOnce)
	for _, ward := range value.Keys(o.Wards()) {
		at := o.Ledgers[ward]
		if at == nil {
			continue
		}
		one := l.of[ward]
		if one == nil {
			one = &followed{}
			l.of[ward] = one
		}
		g.Go(func() error {
			entry, known := entries[ward]
			if !known {
				entry = -1
			}
			err := one.look(ctx, at, entry)
			switch {
			case err == nil:
				one.wrong = ""
			case ctx.Err() == nil && err.Error() != one.wrong:
				one.wrong = err.Error()
				o.Log.Warn("the runs of a ward cannot be read now", "env", o.Env, "ward", ward, "error", err)
			}
			return nil
		})
	}
	_ = g.Wait() // none returns an error
}

// look reads one ledger. entry is the one up to which the journal knows of runs; -1 for none.
func (d *followed) look(ctx context.Context, at *ledger.Ledger, entry int64) (err error) {
	if d.f == nil {
		if d.f, err = at.FollowRuns(ctx, entry); err != nil {
			d.f = nil
			return err
		}
	}
	dead, alive, err := d.f.Look(ctx)
	if err != nil {
		return err
	}
	for _, r := range d.f.Ended() {
		run := alert.Run{ID: r.Run, Ward: at.Ward, Who: r.Who, Host: r.Host, Command: r.Command, Reason: r.Reason, Began: r.Began, Ended: r.Ended,
			Outcome: r.Outcome, Counts: r.Counts, Failed: r.Failed, Last: r.Last}
		d.ended = append(d.ended, run)
	}
	open := func(ids []string) map[string]alert.Run {
		out := map[string]alert.Run{}
		for _, id := range ids {
			if r := d.f.Open(id); r != nil {
				out[id] = alert.Run{ID: id, Ward: at.Ward, Who: r.Who, Host: r.Host, Command: r.Begin.Command, Reason: r.Begin.Reason,
					Began: r.Since, Outcome: "open", Last: r.LastSeq}
			}
		}
		return out
	}
	d.dead, d.alive = open(dead), open(alive)
	return nil
}

// news are the looks that tell what the journal does not know.
func (l *ledgers) news(o Options, j journal) (out []*alert.Look) {
	l.mu.Lock()
	defer l.mu.Unlock()
	tell := len(o.Receivers) > 0
	j.Journal(func(s *alert.State) {
		for _, ward := range value.Keys(l.of) {
			d := l.of[ward]
			if d.f == nil {
				continue
			}
			look := &alert.Look{Env: o.Env, Ward: ward, Entry: d.f.Seq(), Tell: tell}
			if w := s.Wards[ward]; w != nil && w.Entry != nil {
				for len(d.ended) > 0 && d.ended[0].Last <= *w.Entry {
					d.ended = d.ended[1:]
				}
			}
			look.Ended = d.ended
			for _, id := range value.Keys(d.dead) {
				look.Dead = append(look.Dead, d.dead[id])
			}
			for _, id := range value.Keys(d.alive) {
				look.Alive = append(look.Alive, d.alive[id])
			}
			if s.News(look) {
				out = append(out, look)
			}
		}
	})
	return out
}

// noteLedgers writes down what the ledgers tell and the journal does not.
func (w *watcher) noteLedgers(ctx context.Context) error {
	w.ledgers.look(ctx, w.Options, w.run)
	looks := w.ledgers.news(w.Options, w.run)
	if looks == nil {
		return nil
	}
	var lines []ledger.Line
	for _, l := range looks {
		for _, r := range l.Ended {
			w.Log.Info("a run ended", "env", w.Env, "ward", l.Ward, "run", ledger.ShortRun(r.ID), "outcome", r.Outcome)
		}
		for _, r := range l.Dead {
			w.Log.Warn("a dead program holds a lock", "env", w.Env, "ward", l.Ward, "run", ledger.ShortRun(r.ID))
		}
		lines = append(lines, watchLine(&alert.Line{Look: l}))
	}
	err := w.run.Append(ctx, lines...)
	w.hint()
	return err
}

// noteLedgersUntil does so again and again, until all is surveyed.
func (w *watcher) noteLedgersUntil(ctx context.Context, surveyed <-chan struct{}) error {
	for {
		select {
		case <-surveyed:
			return nil
		case <-ctx.Done():
			return nil
		case <-w.Clock.After(often):
		}
		if err := w.noteLedgers(ctx); err != nil {
			return err
		}
	}
}
