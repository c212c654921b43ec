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
