package ledger

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/store"
)

// MovedError is returned for a ledger that lives elsewhere now.
type MovedError struct{ Ward, To string }

// Error says where to.
func (e *MovedError) Error() string {
	return fmt.Sprintf("the ledger of %s has moved to %s; [ledger] in kasbah.toml still names the place it left",
		e.Ward, e.To)
}

// Moving is a ledger that was copied into another store and proven there, and
// is locked in the old one until Finish or Abort.
type Moving struct {
	l, there *Ledger
	r        *Run
	Entries  int64
}

// Move copies the ledger into another store and proves the copy. It is a run
// on the whole ledger. Interrupted at any moment the old ledger is still the
// ledger, and moving again goes on.
func (l *Ledger) Move(ctx context.Context, to store.Store, o BeginOptions) (*Moving, error) {
	if err := l.elsewhere(ctx, to); err != nil {
		return nil, err
	}
	r, err := l.Begin(ctx, o)
	if err != nil {
		return nil, err
	}
	if force := r.State().Approval; len(force.Asks(map[string]bool{"move": true})) > 0 {
		err := fmt.Errorf("%s asks for signatures for every change, and a move cannot be signed: let [approval] in "+
			"kasbah.toml ask for some changes only, have that signed and enacted, and move then", l.Ward)
		return nil, errors.Join(err, r.End(ctx, End{Outcome: "failed"}))
	}
	m := &Moving{l: l, there: l.on(to), r: r}
	m.there.memory = nil
	if err := m.copy(ctx); err != nil {
		return nil, errors.Join(err, m.Abort(ctx))
	}
	return m, nil
}

// elsewhere is an error when another store is the one that the ledger lives in: what is
// put there shows here. Names of places do not tell.
func (l *Ledger) elsewhere(ctx context.Context, to store.Store) error {
	key := "moving/" + rand.Text()
	if err := to.PutIfAbsent(ctx, key, []byte("whether this is the same place\n")); err != nil {
		return err
	}
	_, err := l.store.Get(ctx, key)
	if derr := to.Delete(ctx, key); derr != nil {
		return derr
	}
	switch {
	case err == nil:
		return fmt.Errorf("the ledger of %s lives there already: the new place is the old one by another name, and "+
			"nothing was moved", l.Ward)
	case errors.Is(err, store.ErrNotFound):
		return nil
	}
	return err
}

func (m *Moving) copy(ctx context.Context) error {
	if err := m.l.copyTo(ctx, m.there.store); err != nil {
		return err
	}
	v, err := m.there.Verify(ctx)
	if err != nil {
		return fmt.Errorf("the copy is not whole: %w", err)
	}
	s, err := m.there.Load(ctx)
	if err != nil {
		return err
	}
	m.r.mu.Lock()
	defer m.r.mu.Unlock()
	if s.Seq != m.r.state.Seq || s.Hash != m.r.state.Hash || v.Entries != s.Seq {
		return fmt.Errorf("the copy of %s does not end where the ledger does", m.l.Ward)
	}
	m.Entries = s.Seq
	return nil
}

// Abort gives the lock back and leaves the ledger where it is. What was copied
// does no harm.
func (m *Moving) Abort(ctx context.Context) error { return m.r.End(ctx, End{Outcome: "failed"}) }

// Finish notes in the old store where the ledger has gone, after which nothing
// may follow there, and gives its lock back in the new one.
func (m *Moving) Finish(ctx context.Context, called string) error {
	ctx = context.WithoutCancel(ctx)
	defer m.r.stop()
	if err := m.r.Append(ctx, Line{Kind: KindNote, Note: &Note{What: "moved", Moved: called}},
		Line{Kind: KindEnd, End: &End{Outcome: "done"}}); err != nil {
		return err
	}
	m.there.memory = m.l.memory // what was noted last is of the old place alone
	s, err := m.there.Load(ctx)
	if err != nil {
		return err
	}
	again := m.there.newRun(m.r.ID, s)
	again.signer = m.r.signer
	go again.write(ctx)
	return again.End(ctx, End{Outcome: "done"})
}

// copyTo copies every object. What is there already must be the same.
func (l *Ledger) copyTo(ctx context.Context, to store.Store) error {
	keys, err := l.keys(ctx, l.prefix, "")
	if err != nil {
		return err
	}
	ours := make(map[string]bool, len(keys))
	for _, k := range keys {
		ours[k] = true
	}
	for k, err := range to.List(ctx, l.prefix, "") {
		if err != nil {
			return err
		}
		if ours[k] {
			continue
		}
		if strings.HasPrefix(k, l.prefix+"checkpoint/") { // of an interrupted move: retired here since
			if err := to.Delete(ctx, k); err != nil {
				return err
			}
			continue
		}
		return fmt.Errorf("there is another ledger of %s already: it holds %s, which this one does not", l.Ward, k)
	}
	for _, k := range keys {
		body, err := l.store.Get(ctx, k)
		blank := errors.Is(err, store.ErrBlank)
		if err != nil && !blank {
			return err
		}
		won, err := l.on(to).put(ctx, k, body)
		if err != nil {
			return err
		}
		if blank {
			if err := to.Blank(ctx, k); err != nil {
				return err
			}
			continue
		}
		if there, err := to.Get(ctx, k); err != nil || !won || !bytes.Equal(there, body) {
			return errors.Join(fmt.Errorf("there is another ledger of %s already: its %s is not this one's", l.Ward, k),
				err)
		}
	}
	return nil
}

// on is the ledger in another store.
func (l *Ledger) on(s store.Store) *Ledger {
	there := *l
	there.store = s
	return &there
}

// Moved says what was moved into another store.
type Moved struct {
	Format  string   `json:"format"`
	Run     string   `json:"run"`
	Env     string   `json:"env"`
	Wards   []string `json:"wards"`
	Store   string   `json:"store"`
	Entries int64    `json:"entries"`
}

// MoveAll moves the ledgers of an environment into another store, which is called so: all are
// copied and proven before the first one is closed. Those that an earlier move has finished
// are left out.
func MoveAll(ctx context.Context, ledgers []*Ledger, to store.Store, called string, o BeginOptions) (*Moved, error) {
	out := &Moved{Format: "kasbah.move/1", Run: o.ID, Wards: []string{}, Store: called}
	ledgers = slices.SortedFunc(slices.Values(ledgers), func(a, b *Ledger) int {
		return strings.Compare(a.Ward,
			b.Ward)
	})
	var moving []*Moving
	for _, l := range ledgers {
		m, err := l.Move(ctx, to, o)
		var moved *MovedError
		if errors.As(err, &moved) && moved.To == called {
			continue // an earlier move ended between two wards
		}
		if err != nil {
			for _, other := range moving {
				err = errors.Join(err, other.Abort(ctx))
			}
			return nil, err
		}
		moving, out.Wards, out.Entries = append(moving, m), append(out.Wards, l.Ward), out.Entries+m.Entries
	}
	for _, m := range moving {
		if err := m.Finish(ctx, called); err != nil {
			return nil, err
		}
	}
	return out, nil
}
