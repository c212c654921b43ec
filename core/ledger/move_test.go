package ledger_test

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/ledger"
	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/stores/memory"
)

// frail is a store that dies at its n-th put.
type frail struct {
	store.Store
	left int
}

func (f *frail) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	if f.left--; f.left < 0 {
		runtime.Goexit() // as a kill does
	}
	return f.Store.PutIfAbsent(ctx, key, body)
}

// TestMove: a sealed ledger moves with all its history; the old place is
// closed, and machines that have seen it go on in the new one.
func TestMove(t *testing.T) {
	ctx := context.Background()
	e, k := seal.NewEstate(), newKeeper(t)
	from, to := memory.New(), memory.New()
	work(t, k.ledger(t, from, e, k.public()), "one", 3)
	old := k.ledger(t, from, e, k.public())
	m, err := old.Move(ctx, to, ledger.BeginOptions{ID: "move"})
	require.NoError(t, err)
	_, err = k.ledger(t, from, e, k.public()).Begin(ctx, ledger.BeginOptions{ID: "other"})
	var locked *ledger.LockedError
	require.ErrorAs(t, err, &locked, "nobody writes while it moves")
	require.NoError(t, m.Finish(ctx, "postgres"))
	var moved *ledger.MovedError
	_, err = k.ledger(t, from, e, k.public()).Load(ctx)
	require.ErrorAs(t, err, &moved)
	_, err = k.ledger(t, from, e, k.public()).Begin(ctx, ledger.BeginOptions{ID: "late"})
	require.ErrorAs(t, err, &moved)
	there := k.ledger(t, to, e, k.public())
	s, err := there.Load(ctx)
	require.NoError(t, err)
	require.Len(t, s.Records, 3)
	require.Empty(t, s.Holders())
	work(t, there, "two", 1)
	v, err := there.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
	runs, _, err := there.History(ctx)
	require.NoError(t, err)
	require.Len(t, runs, 3)

	// what is there already is not written over
	foreign := memory.New()
	stranger := newKeeper(t)
	work(t, stranger.ledger(t, foreign, e, stranger.public()), "theirs", 1)
	_, err = k.ledger(t, to, e, k.public()).Move(ctx, foreign, ledger.BeginOptions{ID: "again"})
	require.ErrorContains(t, err, "there is another ledger of shore already")
	_, err = k.ledger(t, to, e, k.public()).Load(ctx)
	require.NoError(t, err)
}

// TestMoveInterrupted: whenever moving dies, the ledger is whole in one of the
// two places, and moving again ends well.
func TestMoveInterrupted(t *testing.T) {
	ctx := context.Background()
	e := seal.NewEstate()
	for steps := 0; ; steps++ {
		k := newKeeper(t)
		from, to := memory.New(), memory.New()
		work(t, k.ledger(t, from, e, k.public()), "one", 2)
		f := &frail{Store: from, left: steps}
		g := &frail{Store: to, left: 1 << 30}
		if steps%2 == 1 { // it is the new place that dies
			f.left, g.left = 1<<30, steps/2
		} else {
			f.left = steps / 2
		}
		done, lived := make(chan struct{}), false
		go func() {
			defer close(done)
			m, err := k.ledger(t, f, e, k.public()).Move(ctx, g, ledger.BeginOptions{ID: "move"})
			if err == nil {
				lived = m.Finish(ctx, "elsewhere") == nil
			}
		}()
		<-done
		if lived && steps > 30 {
			return
		}
		// another program, later
		l := k.ledger(t, from, e, k.public())
		s, loadErr := l.Load(ctx)
		var moved *ledger.MovedError
		if errors.As(loadErr, &moved) {
			l = k.ledger(t, to, e, k.public())
			s, loadErr = l.Load(ctx)
		}
		require.NoError(t, loadErr, "step %d", steps)
		require.Len(t, s.Records, 2)
		for _, h := range s.Holders() {
			require.NoError(t, l.Break(ctx, h.Run, "it died", ""))
		}
		if moved == nil {
			m, err := l.Move(ctx, to, ledger.BeginOptions{ID: fmt.Sprint("again", steps)})
			require.NoError(t, err, "step %d", steps)
			require.NoError(t, m.Finish(ctx, "elsewhere"))
			l = k.ledger(t, to, e, k.public())
		}
		v, err := l.Verify(ctx)
		require.NoError(t, err)
		require.Equal(t, 2, v.Records)
		work(t, l, "after", 1)
	}
}

// TestPrune: the history goes and the state stays, sealed or not, and proves
// whole from the older checkpoint on.
func TestPrune(t *testing.T) {
	ctx := context.Background()
	e, k := seal.NewEstate(), newKeeper(t)
	s := memory.New()
	to := []string{k.public()}
	for i := range 3 { // each resealing writes a checkpoint
		work(t, k.ledger(t, s, e, to...), fmt.Sprint("run-", i), 2)
		for j := range 2 {
			to = append(to, newKeeper(t).public())
			_, err := k.ledger(t, s, e, to...).Reseal(ctx, ledger.BeginOptions{ID: fmt.Sprint("reseal-", i, j)})
			require.NoError(t, err)
		}
	}
	early := map[string]ledger.Head{}
	for name := range k.seen {
		body, err := s.Get(ctx, name+"log/0000000005")
		require.NoError(t, err)
		early[name] = ledger.Head{Seq: 5, Hash: fmt.Sprintf("%x", sha256.Sum256(body))}
	}
	before, err := k.ledger(t, s, e, to...).Load(ctx)
	require.NoError(t, err)
	upTo, err := k.ledger(t, s, e, to...).Prune(ctx, 1<<40, ledger.BeginOptions{ID: "keep all"})
	require.NoError(t, err)
	require.Zero(t, upTo)
	upTo, err = k.ledger(t, s, e, to...).Prune(ctx, 0, ledger.BeginOptions{ID: "prune"})
	require.NoError(t, err)
	require.Greater(t, upTo, int64(20))
	after, err := k.ledger(t, s, e, to...).Load(ctx)
	require.NoError(t, err)
	require.Equal(t, before.Addresses(), after.Addresses())
	_, err = k.ledger(t, s, e, to...).LoadAt(ctx, 3)
	require.ErrorIs(t, err, store.ErrBlank)
	v, err := k.ledger(t, s, e, to...).Verify(ctx)
	require.NoError(t, err)
	require.Equal(t, upTo, v.Pruned)
	runs, _, err := k.ledger(t, s, e, to...).History(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, runs)
	work(t, k.ledger(t, s, e, to...), "on", 1)

	// what was pruned is still known by its hash, and a blank alone proves nothing
	seen := ledger.Head{}
	for name := range k.seen {
		seen = early[name]
	}
	require.NoError(t, k.ledger(t, s, e, to...).Contains(ctx, seen.Seq, seen.Hash))
	other := newKeeper(t)
	other.id = k.id
	other.seen["coast/live/shore/"] = ledger.Head{Seq: seen.Seq, Hash: strings.Repeat("0", 64)}
	var back *ledger.RollbackError
	_, err = other.ledger(t, s, e, to...).Load(ctx)
	require.ErrorAs(t, err, &back, "another history, blanked at what this machine has seen")
	key := ""
	for name, err := range s.List(ctx, "coast/live/shore/pruned/", "") {
		require.NoError(t, err)
		key = name
	}
	require.NoError(t, s.Delete(ctx, key))
	require.ErrorAs(t, k.ledger(t, s, e, to...).Contains(ctx, seen.Seq, seen.Hash), &back)
}
