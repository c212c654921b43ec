package ledger

import (
	"context"
	"slices"
	"strings"

	"kasbah/core/alert"
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
	s := r.state.Watch
	if s == nil {
		s = alert.NewState()
	}
	f(s)
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

// Vigil judges which other runs of a ledger are dead, over several looks.
type Vigil struct{ of map[string]*watcher }

// Dead looks, and lists the runs that are dead by now: their process is known to be gone, or nothing
// came of them for a minute of this machine's clock.
func (v *Vigil) Dead(ctx context.Context, r *Run) ([]string, error) {
	began := r.l.clock()
	if err := r.Look(ctx); err != nil {
		return nil, err
	}
	ended := r.l.clock()
	r.mu.Lock()
	defer r.mu.Unlock()
	was := v.of
	v.of = make(map[string]*watcher, len(r.state.Open))
	var out []string
	for id, open := range r.state.Open {
		if id == r.ID {
			continue
		}
		w := was[id]
		if w == nil {
			w = &watcher{}
		}
		v.of[id] = w
		if w.dead(open, began, ended) {
			out = append(out, id)
		}
	}
	return out, nil
}
