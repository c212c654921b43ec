package ledger

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/stores/file"
	"kasbah/stores/memory"
)

// TestManyAppend: what many goroutines append at once is all durable, each
// goroutine's lines in its order, and in fewer entries than lines.
func TestManyAppend(t *testing.T) {
	s, err := file.Open(t.TempDir())
	require.NoError(t, err)
	l := open(t, s, "keeper-1")
	r := begin(t, l, "run-1")
	const workers, each = 16, 25
	var wg sync.WaitGroup
	for w := range workers {
		wg.Go(func() {
			for n := range each {
				id, address := fmt.Sprintf("%d-%d", w, n), fmt.Sprintf("medina.bucket/b%d", w)
				if err := r.Append(ctx, Line{Kind: KindIntent, Intent: &Intent{ID: id, Address: address,
					Call: "update"}}); err != nil {
					t.Errorf("intent: %v", err)
					return
				}
				rec := &Record{Address: address, Type: "medina.bucket", ID: fmt.Sprintf("bkt-%d", w), Version: int64(n),
					Run: "run-1", Declared: "x"}
				if err := r.Append(ctx, Line{Kind: KindResult, Result: &Result{Intent: id, Address: address,
					Outcome: Done, Record: rec}}); err != nil {
					t.Errorf("result: %v", err)
					return
				}
				if got, err := r.Record(address); err != nil || got.Version != int64(n) {
					t.Errorf("the run does not see what it wrote: %v %v", got, err)
				}
			}
		})
	}
	wg.Wait()
	end(t, r)
	state, err := l.Load(ctx)
	require.NoError(t, err)
	require.Len(t, state.Records, workers)
	require.Empty(t, state.Intents)
	for _, st := range state.Records {
		rec, err := st.Record()
		require.NoError(t, err)
		require.EqualValues(t, each-1, rec.Version, "the last one stands")
	}
	require.Less(t, state.Seq, int64(workers*each), "what is ready together goes into one entry")
	v, err := l.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
	require.ErrorContains(t, r.Append(ctx, Line{Kind: KindBeat, Beat: &Beat{}}), "the run has ended")
}

// TestEveryMoment: the state at each entry is the fold up to it, whether a
// checkpoint helps or not.
func TestEveryMoment(t *testing.T) {
	l := open(t, memory.New(), "keeper-1")
	r := begin(t, l, "run-1")
	for n := range 12 {
		enact(t, r, n+1, fmt.Sprintf("medina.bucket/b%d", n), value.Map{"n": int64(n)})
		if n == 5 {
			r.checkpoint()
		}
	}
	end(t, r)
	whole := NewState()
	for seq := int64(1); seq <= 26; seq++ {
		require.NoError(t, l.advance(ctx, whole, seq))
		at, err := l.LoadAt(ctx, seq)
		require.NoError(t, err)
		require.NoError(t, same(at, whole), "at entry %d", seq)
		require.Equal(t, whole.Latest, at.Latest, "at entry %d", seq)
		require.Len(t, at.Records, int(max(0, seq-1)/2))
	}
	runs, _, err := l.History(ctx)
	require.NoError(t, err)
	latest := runs[len(runs)-1]
	latest.Ward, latest.Calls = "", nil
	require.Equal(t, latest, whole.Latest, "what is known of the latest run is what the history says")
}

// TestPruned: blanked entries are history that is gone; what a checkpoint
// says stays readable, and what lies before it is refused, not made up.
func TestPruned(t *testing.T) {
	s := memory.New()
	l := open(t, s, "keeper-1")
	r := begin(t, l, "run-1")
	enact(t, r, 1, "medina.bucket/a", nil)
	r.checkpoint()
	enact(t, r, 2, "medina.bucket/b", nil)
	end(t, r)
	for seq := int64(1); seq <= 3; seq++ {
		require.NoError(t, s.Blank(ctx, l.logKey(seq)))
	}
	state, err := l.Load(ctx)
	require.NoError(t, err)
	require.Len(t, state.Records, 2)
	_, err = l.LoadAt(ctx, 2)
	require.ErrorIs(t, err, store.ErrBlank)
	require.NoError(t, s.Blank(ctx, l.logKey(5)))
	_, err = l.Load(ctx)
	require.ErrorIs(t, err, store.ErrBlank, "what the state needs is missing: no answer")
}

// full is a store that has no room left.
type full struct{ store.Store }

func (f *full) PutIfAbsent(_ context.Context, _ string, _ []byte) error {
	return errors.New("no space left on device")
}

// TestNoRoom: a run that cannot write says so, holds no lock, and makes no
// call.
func TestNoRoom(t *testing.T) {
	if testing.Short() {
		t.Skip("tries for some seconds")
	}
	l := open(t, &full{memory.New()}, "keeper-1")
	_, err := l.Begin(ctx, BeginOptions{ID: "run-1"})
	require.ErrorContains(t, err, "the ledger of shore could not be written: no space left on device")
}
