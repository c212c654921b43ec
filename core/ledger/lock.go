package ledger

import (
	"context"
	"errors"
	"fmt"
	"time"

	"kasbah/core/store"
)

// LockedError says that another run holds the lock.
type LockedError struct {
	Ward    string
	Holder  *OpenRun
	Address string // that both want, the first of them; "" when one of them locks everything
	Dead    bool   // the holder's process is known not to run any more
}

// Error is one line; the interface shows more.
func (e *LockedError) Error() string {
	return fmt.Sprintf("%s is locked by %s on %s since %s (run %s)", e.Ward, e.Holder.Who, e.Holder.Host,
		e.Holder.Since.Local().Format(time.TimeOnly), e.Holder.Run)
}

const (
	pollEvery  = 300 * time.Millisecond
	lookEvery  = 5 * time.Second  // where the store tells of what is put
	standStill = 60 * time.Second // after which a silent holder counts as dead
)

// WaitOptions say what to do about a lock that another run holds.
type WaitOptions struct {
	Wait       time.Duration        // how long to wait for it; 0 gives up at once
	BreakStale bool                 // take it away from a holder that is dead
	Waiting    func(holder OpenRun) // called at each look, may be nil
}

// BeginWaiting is Begin with patience.
func (l *Ledger) BeginWaiting(ctx context.Context, o BeginOptions, w WaitOptions) (r *Run, err error) {
	err = l.patiently(ctx, o.ID, w, func() error {
		r, err = l.Begin(ctx, o)
		return err
	})
	return r, err
}

// patiently tries until the answer is another than a lock that is held.
func (l *Ledger) patiently(ctx context.Context, run string, w WaitOptions, try func() error) error {
	deadline := time.Now().Add(w.Wait)
	watch := watcher{}
	var told <-chan struct{}
	every := pollEvery
	if s, ok := l.store.(store.Watcher); ok && w.Wait > 0 {
		watching, cancel := context.WithCancel(ctx)
		defer cancel()
		var err error
		if told, err = s.Watch(watching, l.prefix+"log/"); err == nil {
			every = lookEvery
		} // else one asks again and again
	}
	for {
		began := l.clock()
		err := try()
		locked, ok := err.(*LockedError)
		if !ok {
			return err
		}
		locked.Dead = watch.dead(locked.Holder, began, l.clock())
		if locked.Dead && w.BreakStale {
			if err := l.Break(ctx, locked.Holder.Run, "its holder is dead", run); err != nil && !errors.Is(err,
				errHoldsNone) {
				return err // else another one that waits was quicker
			}
			continue
		}
		if w.Wait == 0 || time.Now().After(deadline) {
			return locked
		}
		if w.Waiting != nil {
			w.Waiting(*locked.Holder)
		}
		t := time.NewTimer(min(every, time.Until(deadline)+time.Millisecond))
		select {
		case <-t.C:
		case _, on := <-told:
			if !on { // the connection was lost
				told, every = nil, pollEvery
			}
		case <-ctx.Done():
			t.Stop()
			return ctx.Err()
		}
	}
}

// watcher judges whether a holder is dead without comparing clocks: its
// entries stand still while ours runs, with a look that worked at both ends.
type watcher struct {
	run   string
	seq   int64
	since time.Duration // the end of the look that saw its newest entry first
}

// dead judges by a look that went on from began to ended. What it has not seen may have
// come at any time after it began.
func (w *watcher) dead(h *OpenRun, began, ended time.Duration) bool {
	if h.Begin.Process.gone() {
		return true
	}
	if w.run != h.Run || w.seq != h.LastSeq {
		w.run, w.seq, w.since = h.Run, h.LastSeq, ended
		return false
	}
	return began-w.since > standStill
}

// errHoldsNone is returned for a lock that is to be broken and is not there any more.
var errHoldsNone = errors.New("it holds no lock")

type noLockError struct{ run, ward string }

func (e *noLockError) Error() string { return fmt.Sprintf("run %s holds no lock on %s", e.run, e.ward) }
func (e *noLockError) Unwrap() error { return errHoldsNone }

// Break takes the lock away from a run. by is the run that does so, or "".
func (l *Ledger) Break(ctx context.Context, run, why, by string) error {
	return l.aside(ctx, by, func(s *State) (*signer, Line, error) {
		if s.Open[run] == nil {
			return nil, Line{}, &noLockError{run, l.Ward}
		}
		signer, err := l.newSigner(by, s)
		return signer, Line{Kind: KindBreak, Break: &Break{Run: run, Why: why, Key: signer.publicOf()}}, err
	})
}

// After notes which steps ran once the run had ended, and how each of them ended.
func (r *Run) After(ctx context.Context, steps []string) error {
	return r.l.aside(ctx, r.ID, func(*State) (*signer, Line, error) {
		return r.signer, Line{Kind: KindAfter, After: &After{Steps: steps, Key: r.signer.publicOf()}}, nil
	})
}

// aside appends an entry for which no lock is held. line makes it, for the state that it follows.
func (l *Ledger) aside(ctx context.Context, run string, line func(*State) (*signer, Line, error)) error {
	for {
		s, err := l.Load(ctx)
		if err != nil {
			return err
		}
		signer, one, err := line(s)
		if err != nil {
			return err
		}
		h := Header{
			Format: Format, Seq: s.Seq + 1, Prev: s.Hash, Time: time.Now().UTC(), Run: run,
			Who: l.who.Who, Host: l.who.Host, Program: l.who.Program, Kind: one.Kind,
		}
		key := l.logKey(h.Seq)
		body, err := l.codec.encode(h, []Line{one})
		if err == nil {
			body, err = l.sealed(key, signer.sign(key, body), s.Readers, nil)
		}
		if err != nil {
			return err
		}
		won, err := l.put(ctx, key, body)
		if err == nil && won && l.memory != nil {
			s.Seq, s.Hash = h.Seq, hash(body)
			err = l.memory.Remember(l.prefix, s.head())
		}
		if err != nil || won {
			return err
		}
	}
}
