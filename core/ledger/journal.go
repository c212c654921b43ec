package ledger

import (
	"context"
	"errors"
	"slices"
	"strings"

	"kasbah/core/alert"
	"kasbah/core/store"
)

// JournalWard is the name in place of a ward under which an environment's journal stands in the store:
// what watchers claim and find. No ward can have it.
const JournalWard = "~watch"

// Begun reports whether anything was written.
func (l *Ledger) Begun(ctx context.Context) (bool, error) {
	for _, err := range l.store.List(ctx, l.prefix, "") {
		return err == nil, err
	}
	return false, nil
}

// Journal lets f see what the journal says, up to the newest entry this run knows of. f must keep
// nothing of it.
func (r *Run) Journal(f func(s *alert.State)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	see(r.state, f)
}

func see(s *State, f func(s *alert.State)) {
	if s.Watch == nil {
		f(alert.NewState())
		return
	}
	f(s.Watch)
}

// Oldest reports whether this run began before all others that write an address with a prefix, as far as it
// knows. Ids of runs are in the order of their beginnings.
func (r *Run) Oldest(prefix string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for id, open := range r.state.Open {
		if id < r.ID && slices.ContainsFunc(open.Begin.Scope.Writes, func(a string) bool { return strings.HasPrefix(a, prefix) }) {
			return false
		}
	}
	return r.state.Open[r.ID] != nil
}

// Look reads what others have written since, so that the run knows of it.
func (r *Run) Look(ctx context.Context) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.failed != nil {
		return r.failed
	}
	began := r.l.clock()
	if err := r.l.advance(ctx, r.state, 0); err != nil {
		return err
	}
	r.looked = max(r.looked, began)
	return nil
}

// Follower reads a journal as it grows, and writes nothing. It is for one goroutine.
type Follower struct {
	l     *Ledger
	s     *State
	vigil map[string]*watcher
}

// Follow reads what the journal says up to now.
func (l *Ledger) Follow(ctx context.Context) (*Follower, error) {
	s, err := l.Load(ctx)
	if err != nil {
		return nil, err
	}
	return &Follower{l: l, s: s, vigil: map[string]*watcher{}}, nil
}

// Look reads what was written since. It lists the runs that are dead by now: their process is known to be
// gone, or nothing came of them for a minute of this machine's clock, over several looks.
func (f *Follower) Look(ctx context.Context) (dead []string, err error) {
	began := f.l.clock()
	if err := f.l.advance(ctx, f.s, 0); errors.Is(err, errListedGone) || errors.Is(err, store.ErrBlank) {
		if f.s, err = f.l.Load(ctx); err != nil { // it was pruned in between
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	ended := f.l.clock()
	was := f.vigil
	f.vigil = make(map[string]*watcher, len(f.s.Open))
	for id, open := range f.s.Open {
		w := was[id]
		if w == nil {
			w = &watcher{}
		}
		f.vigil[id] = w
		if w.dead(open, began, ended) {
			dead = append(dead, id)
		}
	}
	return dead, nil
}

// Journal lets g see what the journal says. g must keep nothing of it.
func (f *Follower) Journal(g func(s *alert.State)) { see(f.s, g) }
