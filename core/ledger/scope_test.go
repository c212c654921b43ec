package ledger

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/stores/memory"
)

func randomScope(rnd *rand.Rand, of int) Scope {
	if rnd.IntN(12) == 0 {
		return Whole
	}
	var lists [2][]string
	for i := range lists {
		for range rnd.IntN(4) {
			lists[i] = append(lists[i], fmt.Sprintf("medina.bucket/b%d", rnd.IntN(of)))
		}
	}
	return NewScope(lists[0], lists[1])
}

// TestScopes: what scopes say of each other is what their sets say.
func TestScopes(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 5))
	for range 5000 {
		a, b := randomScope(rnd, 8), randomScope(rnd, 8)
		writes := func(s Scope, x string) bool { return s.Whole || slices.Contains(s.Writes, x) }
		touches := func(s Scope, x string) bool { return writes(s, x) || slices.Contains(s.Reads, x) }
		first, meets, covers := "", a.Whole || b.Whole, a.Whole || !b.Whole
		for i := range 8 {
			x := fmt.Sprintf("medina.bucket/b%d", i)
			require.Equal(t, writes(a, x), a.MayWrite(x))
			if writes(a, x) && touches(b, x) || touches(a, x) && writes(b, x) {
				meets = true
				if first == "" && !a.Whole && !b.Whole {
					first = x
				}
			}
			covers = covers && (!writes(b, x) || writes(a, x)) && (!touches(b, x) || touches(a, x))
		}
		at, got := a.Meets(b)
		require.Equal(t, meets, got, "%v %v", a, b)
		require.Equal(t, first, at, "%v %v", a, b)
		back, again := b.Meets(a)
		require.Equal(t, got, again)
		require.Equal(t, at, back)
		require.Equal(t, covers, a.Covers(b), "%v %v", a, b)
	}
	published := NewScope([]string{PublishedValues, "z"}, nil)
	at, meets := published.Meets(NewScope([]string{PublishedValues, "z"}, nil))
	require.True(t, meets)
	require.Equal(t, "z", at, "a resource says more")
	at, meets = published.Meets(NewScope([]string{PublishedValues, "a"}, nil))
	require.True(t, meets)
	require.Equal(t, PublishedValues, at)
	var many []string
	for i := range maxScope + 1 {
		many = append(many, fmt.Sprint(i))
	}
	require.True(t, NewScope(many, nil).Whole)
	require.False(t, NewScope(many[1:], nil).Whole)
}

// TestTwoAtOnce: runs on disjoint parts hold their locks at once, and one that
// meets them is told where.
func TestTwoAtOnce(t *testing.T) {
	s := memory.New()
	one, two := open(t, s, "keeper-1"), open(t, s, "keeper-2")
	lock := func(l *Ledger, id string, scope Scope) (*Run, error) {
		return l.Begin(ctx, BeginOptions{ID: id, Command: "kasbah test", Scope: scope})
	}
	a, err := lock(one, "run-a", NewScope([]string{"medina.bucket/a"}, []string{"medina.network/coast"}))
	require.NoError(t, err)
	b, err := lock(two, "run-b", NewScope([]string{"medina.bucket/b"}, []string{"medina.network/coast"}))
	require.NoError(t, err)
	for _, c := range []struct {
		want  string
		scope Scope
	}{
		{"medina.bucket/a", NewScope([]string{"medina.bucket/a"}, nil)},
		{"medina.bucket/b", NewScope(nil, []string{"medina.bucket/b"})},
		{"medina.network/coast", NewScope([]string{"medina.network/coast"}, nil)},
		{"", Whole},
	} {
		t.Run(c.want, func(t *testing.T) {
			_, err := lock(two, "run-c", c.scope)
			var locked *LockedError
			require.ErrorAs(t, err, &locked, c.want)
			require.Equal(t, c.want, locked.Address)
		})
	}
	enact(t, a, 1, "medina.bucket/a", nil)
	enact(t, b, 1, "medina.bucket/b", nil)
	enact(t, a, 2, "medina.bucket/a", value.Map{"n": int64(2)})
	require.ErrorContains(t, a.Append(ctx, Line{Kind: KindIntent, Intent: &Intent{ID: "3", Address: "medina.bucket/b",
		Call: "update"}}), "has not locked medina.bucket/b in shore")
	require.NoError(t, b.End(ctx, End{Outcome: "done"}))
	state, err := two.Load(ctx)
	require.NoError(t, err)
	require.Len(t, state.Records, 2)
	v, err := two.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
}

// TestBeyondTheScope: what a run writes beyond its scope is ignored by readers
// and reported by verify, whoever wrote it.
func TestBeyondTheScope(t *testing.T) {
	s := memory.New()
	l := open(t, s, "keeper-1")
	a, err := l.Begin(ctx, BeginOptions{ID: "run-a", Scope: NewScope([]string{"medina.bucket/a"},
		[]string{"medina.bucket/b"})})
	require.NoError(t, err)
	enact(t, a, 1, "medina.bucket/a", nil)
	rec := func(address string) *Record {
		return &Record{Address: address, ID: "x-" + address, Type: "medina.bucket"}
	}
	lines := []Line{
		// unsorted, by run-b
		{Kind: KindBegin, Begin: &Begin{Scope: Scope{Writes: []string{"medina.bucket/z", "medina.bucket/a"}}}},
		{Kind: KindIntent, Intent: &Intent{ID: "9", Address: "medina.bucket/b", Call: "create"}},
		{Kind: KindNote, Note: &Note{Record: rec("medina.bucket/b")}},
		{Kind: KindNote, Note: &Note{Dropped: "medina.bucket/b"}},
		{Kind: KindNote, Note: &Note{Moved: "away"}},
		{Kind: KindNote, Note: &Note{Record: rec("medina.bucket/a")}},
		{Kind: KindEnd, End: &End{Outcome: "done", Values: Values{Published: value.Attributes{"x": "y"}}}},
	}
	for i, line := range lines {
		state := NewState()
		require.NoError(t, l.advance(ctx, state, 0))
		run := "run-a"
		if i == 0 {
			run = "run-b"
		}
		body, err := l.codec.encode(Header{Format: Format, Seq: state.Seq + 1, Prev: state.Hash, Run: run,
			Kind: line.Kind}, []Line{line})
		require.NoError(t, err)
		require.NoError(t, s.PutIfAbsent(ctx, l.logKey(state.Seq+1), body))
	}
	state, err := l.Load(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"medina.bucket/a"}, state.Addresses())
	require.Empty(t, state.Open, "its end counts")
	require.Empty(t, state.Published)
	require.Empty(t, state.Moved)
	v, err := l.Verify(ctx)
	require.NoError(t, err)
	require.Len(t, v.Notes, 6)
	require.Contains(t, v.Notes[0], "run run-b begins while another one holds the lock")
	require.Contains(t, v.Notes[1], "which has not locked medina.bucket/b")
	require.Contains(t, v.Notes[4], "which has not locked the whole ledger")
	require.Contains(t, v.Notes[5], "which has not locked published")
	a.stop()
}

// TestManyAtOnce: of many runs with random scopes, those that are open together
// never meet, all come to their turn, and nothing that any has written is lost.
func TestManyAtOnce(t *testing.T) {
	s := memory.New()
	var wg sync.WaitGroup
	var mu sync.Mutex
	held, together, wrote := map[string]Scope{}, 0, map[string]int{}
	for i := range 12 {
		l, rnd := open(t, s, fmt.Sprintf("keeper-%d", i)), rand.New(rand.NewPCG(8, uint64(i)))
		wg.Go(func() {
			for turn := range 3 {
				id, scope := fmt.Sprintf("run-%d-%d", i, turn), randomScope(rnd, 30)
				if scope.Empty() {
					continue
				}
				r, err := l.BeginWaiting(ctx, BeginOptions{ID: id, Scope: scope}, WaitOptions{Wait: time.Minute})
				if err != nil {
					t.Errorf("begin: %v", err)
					return
				}
				mu.Lock()
				for other, its := range held {
					if at, meets := scope.Meets(its); meets {
						t.Errorf("%s and %s hold %q at once", id, other, at)
					}
				}
				held[id] = scope
				together = max(together, len(held))
				mu.Unlock()
				time.Sleep(20 * time.Millisecond)
				for n, a := range scope.Writes {
					enact(t, r, n, a, nil)
				}
				mu.Lock()
				for _, a := range scope.Writes {
					wrote[a]++
				}
				delete(held, id)
				mu.Unlock()
				if err := r.End(ctx, End{Outcome: "done"}); err != nil {
					t.Errorf("end: %v", err)
				}
			}
		})
	}
	wg.Wait()
	v, err := open(t, s, "reader").Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
	require.Len(t, wrote, v.Records)
	require.Greater(t, together, 1)
}

// slow is a store whose every answer takes a while.
type slow struct {
	store.Store
	by time.Duration
}

func (s *slow) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	time.Sleep(s.by)
	return s.Store.PutIfAbsent(ctx, key, body)
}

func (s *slow) Get(ctx context.Context, key string) ([]byte, error) {
	time.Sleep(s.by)
	return s.Store.Get(ctx, key)
}

// simulated opens a ledger whose time is that of a simulation.
func simulated(t testing.TB, s store.Store, who string) *Ledger {
	l := open(t, s, who)
	began := time.Now()
	l.ClockedBy(func() time.Duration { return time.Since(began) })
	return l
}

// TestNobodyStarves: of two runs that append without a pause neither writes long
// rows of entries while the other one waits, on fast stores and slow ones. Time is simulated, so that what else
// the machine does counts for nothing.
func TestNobodyStarves(t *testing.T) {
	for _, by := range []time.Duration{0, 30 * time.Millisecond} {
		t.Run(by.String(), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				const appends, most = 30, 12
				s := &slow{memory.New(), by}
				var runs []*Run
				for _, id := range []string{"east", "west"} {
					r, err := simulated(t, s, id).Begin(ctx,
						BeginOptions{ID: id, Scope: NewScope([]string{"medina.bucket/" + id}, nil)})
					require.NoError(t, err)
					runs = append(runs, r)
				}
				var both sync.WaitGroup
				for _, r := range runs {
					defer r.stop()
					both.Go(func() {
						for n := range appends {
							if err := r.Append(ctx, Line{Kind: KindBeat, Beat: &Beat{Done: n}}); err != nil {
								t.Errorf("%s: %v", r.ID, err)
								return
							}
						}
					})
				}
				both.Wait()
				longest, row, last := 0, 0, ""
				wrote := map[string]int{}
				for e, err := range open(t, s.Store, "reader").entries(ctx, 2, 0, nil, nil) {
					require.NoError(t, err)
					if row++; e.Run != last {
						row, last = 1, e.Run
					}
					longest = max(longest, row)
					if wrote[e.Run]++; wrote[e.Run] == appends {
						break // the other one is alone from here on
					}
				}
				require.Len(t, wrote, 2)
				require.LessOrEqual(t, longest, most, "entries of one in a row")
			})
		})
	}
}

// TestNewcomer: a run begins although another one, which cannot know of it yet,
// appends without a pause.
func TestNewcomer(t *testing.T) { synctest.Test(t, newcomer) }

func newcomer(t *testing.T) {
	s := &slow{memory.New(), 20 * time.Millisecond}
	busy, err := simulated(t, s, "keeper-1").Begin(ctx, BeginOptions{ID: "busy", Scope: NewScope([]string{"medina.bucket/a"},
		nil)})
	require.NoError(t, err)
	const most = 400
	began, wrote := make(chan struct{}), make(chan int, 1)
	go func() {
		n := 0
		for ; n < most && busy.Append(ctx, Line{Kind: KindBeat, Beat: &Beat{Done: n}}) == nil; n++ {
			select {
			case <-began:
				wrote <- n
				return
			default:
			}
		}
		wrote <- n
	}()
	r, err := simulated(t, s, "keeper-2").Begin(ctx, BeginOptions{ID: "newcomer",
		Scope: NewScope([]string{"medina.bucket/b"}, nil)})
	close(began)
	require.NoError(t, err)
	require.Less(t, <-wrote, most, "entries until the newcomer could begin")
	r.stop()
	busy.stop()
}
