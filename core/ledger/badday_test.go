package ledger

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/stores/memory"
)

// slowStore does something in the middle of its next put or list.
type slowStore struct {
	store.Store
	mu  sync.Mutex
	put func()
}

func (s *slowStore) take(f *func()) func() {
	s.mu.Lock()
	defer s.mu.Unlock()
	do := *f
	*f = nil
	return do
}

func (s *slowStore) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	err := s.Store.PutIfAbsent(ctx, key, body)
	if do := s.take(&s.put); do != nil {
		do()
	}
	return err
}

// TestFenceCountsFromBefore: a put or a look that takes minutes renews nothing. A lock
// that was broken in the meantime is noticed before the next call.
func TestFenceCountsFromBefore(t *testing.T) {
	for _, what := range []string{"put", "look"} {
		t.Run(what, func(t *testing.T) {
			s := &slowStore{Store: memory.New()}
			l := open(t, s, "keeper-1")
			var mu sync.Mutex
			now := time.Duration(0)
			pass := func(d time.Duration) { mu.Lock(); defer mu.Unlock(); now += d }
			l.clock = func() time.Duration { mu.Lock(); defer mu.Unlock(); return now }
			r := begin(t, l, "run-1")
			require.NoError(t, r.MayCall(ctx))
			broken := func() {
				pass(2 * time.Minute)
				require.NoError(t, open(t, s.Store, "keeper-2").Break(ctx, "run-1", "it was silent", ""))
			}
			if what == "put" {
				s.put = broken
				require.NoError(t, r.Announce(ctx, 3), "its put had won")
			} else {
				broken()
			}
			require.ErrorIs(t, r.MayCall(ctx), ErrBroken)
		})
	}
}

// TestAcceptAnyEnd: after a loss or a restore the log may end anywhere, inside a run too.
// An acceptance of that end, and of no other, lets this machine go on, and excuses
// nothing that comes later.
func TestAcceptAnyEnd(t *testing.T) {
	for at := int64(0); at <= 8; at++ {
		t.Run(fmt.Sprint(at), func(t *testing.T) {
			s, m := memory.New(), &machine{}
			l := open(t, s, "keeper-1")
			l.RememberIn(m)
			for i := range 2 {
				r := begin(t, l, fmt.Sprint("run-", i))
				enact(t, r, i, fmt.Sprint("medina.bucket/", i), value.Map{})
				end(t, r)
			}
			require.EqualValues(t, 8, m.Seq)
			restored := cutAt(t, s, at)
			l = open(t, restored, "keeper-1")
			l.RememberIn(m)
			if at < 8 {
				_, err := l.Load(ctx)
				require.ErrorContains(t, err, fmt.Sprintf("-accept %d -why", at))
				_, err = l.Verify(ctx)
				require.Error(t, err, "what every other command refuses is not whole")
			}
			require.NoError(t, l.Accept(ctx, at, BeginOptions{ID: "accept", Reason: "the disk was lost"}))
			_, err := l.Verify(ctx)
			require.NoError(t, err)
			r, err := l.Begin(ctx, BeginOptions{ID: "next"})
			require.NoError(t, err, "no lock of before is left")
			end(t, r)
			_, err = l.Load(ctx)
			require.NoError(t, err)
			// an old copy of after the acceptance is noticed again
			again := open(t, cutAt(t, restored, m.Seq-1), "keeper-1")
			again.RememberIn(m)
			_, err = again.Load(ctx)
			var old *RollbackError
			require.ErrorAs(t, err, &old)
			// what was seen of the lost entries is excused, what comes later is not
			state, err := l.Load(ctx)
			require.NoError(t, err)
			by := state.Accepted[0].By
			if at < 8 {
				require.NoError(t, l.Contains(ctx, at+1, "of the lost log"))
				require.NoError(t, l.Contains(ctx, by, "of the lost log"))
			}
			require.ErrorAs(t, l.Contains(ctx, by+1, "never seen"), &old)
		})
	}
}

type machine struct{ Head }

func (m *machine) Newest(string) (Head, error) { return m.Head, nil }
func (m *machine) Remember(_ string, newest Head) error {
	m.Head = newest
	return nil
}

// cutAt is a copy of a store whose log ends at an entry.
func cutAt(t *testing.T, s store.Store, at int64) store.Store {
	out := memory.New()
	for k, err := range s.List(ctx, "", "") {
		require.NoError(t, err)
		if n, err := seqOf(k); err == nil && n > at {
			continue
		}
		body, err := s.Get(ctx, k)
		require.NoError(t, err)
		require.NoError(t, out.PutIfAbsent(ctx, k, body))
	}
	return out
}

// TestMoveOntoItself: a place under another name is the same place; nothing is closed.
func TestMoveOntoItself(t *testing.T) {
	s := memory.New()
	l := open(t, s, "keeper-1")
	end(t, begin(t, l, "run-1"))
	_, err := l.Move(ctx, struct{ store.Store }{s}, BeginOptions{ID: "move"})
	require.ErrorContains(t, err, "the new place is the old one by another name")
	end(t, begin(t, l, "run-2"))
}

// TestMoveGoesOn: an interrupted move goes on although a checkpoint that it had copied
// was retired since; and where the ledger has gone stands in a checkpoint, too.
func TestMoveGoesOn(t *testing.T) {
	from, to := memory.New(), memory.New()
	l := open(t, from, "keeper-1")
	for i := range 3 {
		r := begin(t, l, fmt.Sprint("run-", i))
		enact(t, r, i, fmt.Sprint("medina.bucket/", i), value.Map{})
		r.mu.Lock()
		require.NoError(t, l.checkpoint(ctx, r.state, nil))
		r.mu.Unlock()
		end(t, r)
		if i == 1 {
			m, err := l.Move(ctx, to, BeginOptions{ID: "move-1"})
			require.NoError(t, err)
			require.NoError(t, m.Abort(ctx))
		}
	}
	m, err := l.Move(ctx, to, BeginOptions{ID: "move-2"})
	require.NoError(t, err)
	require.NoError(t, m.Finish(ctx, "the new place"))
	s, err := l.LoadAt(ctx, 0)
	require.NoError(t, err)
	require.NoError(t, l.checkpoint(ctx, s, nil))
	var moved *MovedError
	_, err = open(t, from, "keeper-2").Load(ctx)
	require.ErrorAs(t, err, &moved)
	require.Equal(t, "the new place", moved.To)
	_, err = open(t, to, "keeper-2").Verify(ctx)
	require.NoError(t, err)
}

// TestOneThingOneAddress: the ledger takes no second record of a thing, nor one of a
// leftover, and a rename is no second one.
func TestOneThingOneAddress(t *testing.T) {
	l := open(t, memory.New(), "keeper-1")
	r := begin(t, l, "run-1")
	enact(t, r, 1, "medina.bucket/a", value.Map{})
	rec := &Record{Address: "medina.bucket/b", Type: "medina.bucket", ID: "bkt-medina.bucket/a"}
	err := r.Append(ctx, Line{Kind: KindNote, Note: &Note{What: "renamed", Dropped: "medina.bucket/a", Record: rec}})
	require.NoError(t, err)
	twice := &Record{Address: "medina.bucket/c", Type: "medina.bucket", ID: rec.ID}
	err = r.Append(ctx, Line{Kind: KindNote, Note: &Note{What: "adopted", Record: twice}})
	require.EqualError(t, err, "medina.bucket/c cannot hold medina.bucket bkt-medina.bucket/a: the ledger of shore "+
		"records it as medina.bucket/b")
}

// TestTwoWaitersBreak: of two that wait for a dead holder's lock one breaks it, and the
// other one waits for its turn.
func TestTwoWaitersBreak(t *testing.T) {
	s := &slowStore{Store: memory.New()}
	dead := open(t, s, "keeper-1")
	dead.who.Process = ThisProcess()
	dead.who.Process.Start = "1"
	if !dead.who.Process.gone() {
		t.Skip("this system does not tell")
	}
	begin(t, dead, "dead")
	var group sync.WaitGroup
	for i := range 4 {
		group.Go(func() {
			r, err := open(t, s, fmt.Sprint("waiter-", i)).BeginWaiting(ctx, BeginOptions{ID: fmt.Sprint("run-", i)},
				WaitOptions{Wait: time.Minute, BreakStale: true})
			if err != nil {
				t.Errorf("waiter %d: %v", i, err)
				return
			}
			if err := r.End(ctx, End{Outcome: "done"}); err != nil {
				t.Errorf("waiter %d: %v", i, err)
			}
		})
	}
	group.Wait()
}
