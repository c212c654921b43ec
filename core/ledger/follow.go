package ledger

import (
	"context"
	"errors"

	"kasbah/core/alert"
	"kasbah/core/store"
	"kasbah/core/value"
)

// Follower reads a ledger as it grows, and writes nothing. It is for one goroutine.
type Follower struct {
	l     *Ledger
	s     *State
	vigil map[string]*watcher
	runs  bool // only runs are wanted, and no record is kept
	ended []*RunSummary
}

// Follow reads what the ledger says up to now.
func (l *Ledger) Follow(ctx context.Context) (*Follower, error) {
	f := &Follower{l: l, vigil: map[string]*watcher{}}
	return f, f.load(ctx)
}

// FollowRuns reads which runs a ledger has, and keeps nothing else of it. The first look lists those
// that ended after an entry; none for -1.
func (l *Ledger) FollowRuns(ctx context.Context, after int64) (*Follower, error) {
	f := &Follower{l: l, vigil: map[string]*watcher{}, runs: true}
	if err := f.load(ctx); err != nil {
		return nil, err
	}
	return f, f.missed(ctx, after)
}

func (f *Follower) load(ctx context.Context) (err error) {
	if f.s, err = f.l.Load(ctx); err != nil {
		return err
	}
	if f.runs {
		f.forget()
		f.s.onEnd = func(r *RunSummary) { f.ended = append(f.ended, r) }
	}
	return nil
}

// missed reads the runs that ended after an entry from the log.
func (f *Follower) missed(ctx context.Context, after int64) error {
	if after < 0 || after >= f.s.Seq {
		return nil
	}
	runs, _, err := f.l.Runs(ctx)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.Outcome != "open" && r.Last > after && r.Last <= f.s.Seq {
			f.ended = append(f.ended, r)
		}
	}
	return nil
}

// forget drops what is not known of runs, so that a follower is as small as they are few.
func (f *Follower) forget() {
	f.s.Records, f.s.Durations, f.s.held = map[string]*Stored{}, map[string]Duration{}, nil
	f.s.Intents, f.s.Notes, f.s.Values, f.s.Drift, f.s.Proposals = nil, nil, Values{}, nil, map[string]*Use{}
}

// Seq is the newest entry that was read; 0 for a ledger without one.
func (f *Follower) Seq() int64 { return f.s.Seq }

// Open is a run that holds a lock now; nil when it holds none.
func (f *Follower) Open(run string) *OpenRun { return f.s.Open[run] }

// Ended lists the runs that were seen to end since it was asked last, with neither their calls nor where
// they began in the log.
func (f *Follower) Ended() []*RunSummary {
	out := f.ended
	f.ended = nil
	return out
}

// Look reads what was written since. It lists the runs that are dead by now, since their process is known to
// be gone, or nothing came of them for a minute of this machine's clock, over several looks; and those
// that have written something since the look before.
func (f *Follower) Look(ctx context.Context) (dead, alive []string, err error) {
	began := f.l.clock()
	from := f.s.Seq
	if err := f.l.advance(ctx, f.s, 0); errors.Is(err, errListedGone) || errors.Is(err, store.ErrBlank) {
		if err = f.load(ctx); err == nil && f.runs { // it was pruned in between
			f.ended = nil
			err = f.missed(ctx, from)
		}
		if err != nil {
			return nil, nil, err
		}
	} else if err != nil {
		return nil, nil, err
	}
	if f.runs {
		f.forget()
	}
	ended := f.l.clock()
	was := f.vigil
	f.vigil = make(map[string]*watcher, len(f.s.Open))
	for _, id := range value.Keys(f.s.Open) {
		open, w := f.s.Open[id], was[id]
		if w == nil {
			w = &watcher{}
		} else if w.seq != open.LastSeq {
			alive = append(alive, id)
		}
		f.vigil[id] = w
		if w.dead(open, began, ended) {
			dead = append(dead, id)
		}
	}
	return dead, alive, nil
}

// Begin begins a run on what the follower has read, so that the ledger is not read again. A log that does
// not hold what was read any more is read anew, as is one with enough behind its last checkpoint.
func (f *Follower) Begin(ctx context.Context, o BeginOptions) (*Run, error) {
	there := f.s.Seq > 0 && !f.runs && !f.s.long()
	if there {
		body, err := f.l.store.Get(ctx, f.l.logKey(f.s.Seq))
		there = err == nil && hash(body) == f.s.Hash
	}
	if !there {
		if err := f.load(ctx); err != nil {
			return nil, err
		}
	}
	return f.l.beginOn(ctx, f.s.snapshot(), o)
}

// Journal lets g see what the journal says. g must keep nothing of it.
func (f *Follower) Journal(g func(s *alert.State)) { see(f.s, g) }
