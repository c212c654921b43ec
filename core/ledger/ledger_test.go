package ledger

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/stores/memory"
)

var ctx = context.Background()

func open(t testing.TB, s store.Store, who string) *Ledger {
	l, err := New(s, "coast", "trial", "shore", Identity{Who: who, Host: "here", Program: "test"})
	require.NoError(t, err)
	return l
}

func begin(t testing.TB, l *Ledger, id string) *Run {
	r, err := l.Begin(ctx, BeginOptions{ID: id, Command: "kasbah test"})
	require.NoError(t, err)
	return r
}

// enact writes the intent and result of one call.
func enact(t testing.TB, r *Run, n int, address string, inputs value.Map) {
	id := fmt.Sprint(n)
	require.NoError(t, r.MayCall(ctx))
	require.NoError(t, r.Append(ctx, Line{Kind: KindIntent, Intent: &Intent{ID: id, Address: address, Call: "create"}}))
	rec := &Record{Address: address, Type: "medina.bucket", ID: "bkt-" + address, Inputs: value.Attributes(inputs),
		Version: int64(n), Run: r.ID, Declared: id}
	require.NoError(t, r.Append(ctx, Line{Kind: KindResult, Result: &Result{Intent: id, Address: address, Outcome: Done,
		Record: rec}}))
}

func end(t testing.TB, r *Run) {
	require.NoError(t, r.End(ctx, End{Outcome: "done", Counts: map[string]int{"done": 1},
		Values: Values{Published: value.Attributes{"x": "y"}}}))
}

func TestRunIsRecorded(t *testing.T) {
	s := memory.New()
	l := open(t, s, "keeper-1")
	state, err := l.Load(ctx)
	require.NoError(t, err)
	require.Zero(t, state.Seq)
	r := begin(t, l, "run-1")
	enact(t, r, 1, "medina.bucket/a", value.Map{"size": int64(3), "p": value.NewRef("shore:medina.x/y",
		value.Key("id"))})
	end(t, r)
	state, err = open(t, s, "keeper-2").Load(ctx)
	require.NoError(t, err)
	require.Empty(t, state.Open)
	require.Equal(t, value.Attributes{"x": "y"}, state.Published)
	rec, err := state.Records["medina.bucket/a"].Record()
	require.NoError(t, err)
	require.Equal(t, int64(3), rec.Inputs["size"])
	require.IsType(t, &value.Pending{}, rec.Inputs["p"], "pending values survive")
	old, err := l.LoadAt(ctx, 2)
	require.NoError(t, err)
	require.Empty(t, old.Records)
	require.Len(t, old.Unresolved(), 0, "the call of a run that holds its lock is not unresolved")
	_, err = l.LoadAt(ctx, 99)
	require.ErrorIs(t, err, store.ErrNotFound)
	history, _, err := l.History(ctx)
	require.NoError(t, err)
	require.Len(t, history, 1)
	require.Equal(t, "done", history[0].Outcome)
	require.Equal(t, []Call{{Address: "medina.bucket/a", Call: "create", Outcome: "done"}}, history[0].Calls)
}

// TestAfterTheEnd: what ran after a run is noted although another run holds the lock by then, and is that run's.
func TestAfterTheEnd(t *testing.T) {
	s := memory.New()
	one, two := open(t, s, "keeper-1"), open(t, s, "keeper-2")
	r := begin(t, one, "run-1")
	enact(t, r, 1, "medina.bucket/a", nil)
	require.NoError(t, r.End(ctx, End{Outcome: "done", Steps: []string{"scan at proposed: passed"}}))
	state, err := two.Load(ctx)
	require.NoError(t, err)
	last := state.Latest
	require.NoError(t, r.After(ctx, []string{"scan at enacted: 1 finding"}))
	other := begin(t, two, "run-2")
	require.NoError(t, r.After(ctx, []string{"smoke at enacted: failed"}))
	enact(t, other, 1, "medina.bucket/b", nil)
	end(t, other)
	require.Equal(t, []string{"scan at proposed: passed"}, last.Steps, "a state that was handed out stays as it is")
	history, _, err := one.History(ctx)
	require.NoError(t, err)
	require.Len(t, history, 2)
	require.Equal(t, []string{"scan at proposed: passed", "scan at enacted: 1 finding", "smoke at enacted: failed"},
		history[0].Steps)
	require.Equal(t, "done", history[0].Outcome)
	require.Empty(t, history[1].Steps)
	require.Len(t, history[0].Calls, 1)
	runs, _, err := one.Runs(ctx)
	require.NoError(t, err)
	for _, r := range history {
		r.Calls = nil
	}
	require.Equal(t, history, runs, "without calls, each run says the same")
	v, err := one.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
}

func TestLockRefusesAndWaits(t *testing.T) {
	s := memory.New()
	one, two := open(t, s, "keeper-1"), open(t, s, "keeper-2")
	r := begin(t, one, "run-1")
	require.NoError(t, r.Announce(ctx, 7))
	_, err := two.Begin(ctx, BeginOptions{ID: "run-2"})
	var locked *LockedError
	require.ErrorAs(t, err, &locked)
	require.Equal(t, "keeper-1", locked.Holder.Who)
	require.Equal(t, "kasbah test", locked.Holder.Begin.Command)
	require.Equal(t, 7, locked.Holder.Total)
	seen := make(chan struct{}, 100)
	got := make(chan error, 1)
	go func() {
		w, err := two.BeginWaiting(ctx, BeginOptions{ID: "run-2"}, WaitOptions{Wait: time.Minute,
			Waiting: func(OpenRun) { seen <- struct{}{} }})
		if err == nil {
			err = w.End(ctx, End{Outcome: "done"})
		}
		got <- err
	}()
	<-seen
	end(t, r)
	require.NoError(t, <-got)
}

// TestManyBegin: of many runs that begin at once, one at a time holds the
// lock, and all come to their turn.
func TestManyBegin(t *testing.T) {
	s := memory.New()
	var wg sync.WaitGroup
	var mu sync.Mutex
	holding := 0
	for i := range 8 {
		l := open(t, s, fmt.Sprintf("keeper-%d", i))
		wg.Go(func() {
			r, err := l.BeginWaiting(ctx, BeginOptions{ID: fmt.Sprintf("run-%d", i)}, WaitOptions{Wait: time.Minute})
			if err != nil {
				t.Errorf("begin: %v", err)
				return
			}
			mu.Lock()
			holding++
			if holding != 1 {
				t.Errorf("%d hold the lock", holding)
			}
			mu.Unlock()
			enact(t, r, 1, fmt.Sprintf("medina.bucket/b%d", i), nil)
			mu.Lock()
			holding--
			mu.Unlock()
			end(t, r)
		})
	}
	wg.Wait()
	v, err := open(t, s, "reader").Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
	require.Equal(t, 8, v.Records)
}

// TestFencing: a run whose lock was broken can neither write nor call again,
// and its unfinished call is left for the next one.
func TestFencing(t *testing.T) {
	s := memory.New()
	one, two := open(t, s, "keeper-1"), open(t, s, "keeper-2")
	r := begin(t, one, "run-1")
	enact(t, r, 1, "medina.bucket/a", nil)
	require.NoError(t, r.Append(ctx, Line{Kind: KindIntent, Intent: &Intent{ID: "2", Address: "medina.bucket/b",
		Call: "create"}}))
	require.ErrorContains(t, two.Break(ctx, "run-9", "no such", ""), "holds no lock")
	require.NoError(t, two.Break(ctx, "run-1", "it hangs", ""))
	r.mu.Lock()
	r.looked -= 2 * fenceAfter // it slept for long
	r.mu.Unlock()
	require.ErrorIs(t, r.MayCall(ctx), ErrBroken)
	require.ErrorIs(t, r.Append(ctx, Line{Kind: KindResult, Result: &Result{Intent: "2", Address: "medina.bucket/b",
		Outcome: Done}}), ErrBroken)
	require.ErrorIs(t, r.End(ctx, End{Outcome: "done"}), ErrBroken)
	state, err := two.Load(ctx)
	require.NoError(t, err)
	require.Len(t, state.Unresolved(), 1)
	require.Len(t, state.Records, 1)
	next := begin(t, two, "run-2")
	require.NoError(t, next.Append(ctx, Line{Kind: KindResult, Result: &Result{Intent: "2", Run: "run-1",
		Address: "medina.bucket/b", Outcome: Failed}}))
	written, read := next.Unresolved()
	require.Empty(t, append(written, read...))
	end(t, next)
	history, _, err := two.History(ctx)
	require.NoError(t, err)
	require.Equal(t, "broken", history[0].Outcome)
	require.Equal(t, "it hangs", history[0].Why)
}

// A writer that did not notice the break and writes all the same is ignored
// by readers and reported by verify.
func TestLateWriterIsIgnored(t *testing.T) {
	s := memory.New()
	l := open(t, s, "keeper-1")
	r := begin(t, l, "run-1")
	require.NoError(t, l.Break(ctx, "run-1", "gone", ""))
	state, err := l.Load(ctx)
	require.NoError(t, err)
	late := Line{Kind: KindNote, Note: &Note{What: "late", Record: &Record{Address: "medina.bucket/late", ID: "x",
		Type: "medina.bucket"}}}
	body, err := l.codec.encode(Header{Format: Format, Seq: state.Seq + 1, Prev: state.Hash, Run: "run-1",
		Kind: KindNote}, []Line{late})
	require.NoError(t, err)
	require.NoError(t, s.PutIfAbsent(ctx, l.logKey(state.Seq+1), body))
	state, err = l.Load(ctx)
	require.NoError(t, err)
	require.Empty(t, state.Records)
	v, err := l.Verify(ctx)
	require.NoError(t, err)
	require.Len(t, v.Notes, 1)
	require.Contains(t, v.Notes[0], "run-1, which holds no lock")
	r.stop()
}

// TestCheckpoints: a checkpoint says what the log says, the two newest are
// kept, and history before them stays.
func TestCheckpoints(t *testing.T) {
	s := memory.New()
	l := open(t, s, "keeper-1")
	r := begin(t, l, "run-1")
	for i := range 3 {
		for n := range 5 {
			enact(t, r, i*5+n+1, fmt.Sprintf("medina.bucket/b%d", n+i), value.Map{"n": int64(i)})
		}
		r.checkpoint()
	}
	enact(t, r, 99, "medina.bucket/after", nil)
	end(t, r)
	keys, err := l.keys(ctx, l.prefix+"checkpoint/", "")
	require.NoError(t, err)
	require.Len(t, keys, 2)
	v, err := l.Verify(ctx)
	require.NoError(t, err)
	require.Equal(t, 2, v.Checkpoints)
	require.Empty(t, v.Notes)
	whole := NewState()
	require.NoError(t, l.advance(ctx, whole, 0))
	quick, err := l.Load(ctx)
	require.NoError(t, err)
	require.Nil(t, quick.Records["medina.bucket/b3"].record, "an unchanged record is not decoded")
	require.NoError(t, same(quick, whole))
	early, err := l.LoadAt(ctx, 5)
	require.NoError(t, err)
	require.Len(t, early.Records, 2)
}

// counting counts the checkpoints that are written to a store.
type counting struct {
	store.Store
	checkpoints int
}

func (c *counting) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	if strings.Contains(key, "/checkpoint/") {
		c.checkpoints++
	}
	return c.Store.PutIfAbsent(ctx, key, body)
}

// TestCheckpointsStayInProportion: a long run over a large ledger does not write
// everything anew every thousand entries, and over a small one it does.
func TestCheckpointsStayInProportion(t *testing.T) {
	for _, c := range []struct{ records, least, most int }{{10_000, 0, 1}, {10, 2, 3}} {
		s := &counting{Store: memory.New()}
		l := open(t, s, "keeper-1")
		r := begin(t, l, "run-1")
		var lines []Line
		for n := range c.records {
			id, address := fmt.Sprint("fill-", n), fmt.Sprintf("medina.bucket/b%d", n)
			lines = append(lines, Line{Kind: KindIntent, Intent: &Intent{ID: id, Address: address, Call: "create"}},
				Line{Kind: KindResult, Result: &Result{Intent: id, Address: address, Outcome: Done,
					Record: &Record{Address: address, Type: "medina.bucket", ID: "bkt-" + address, Run: r.ID,
						Declared: id}}})
		}
		require.NoError(t, r.Append(ctx, lines...))
		for n := range 1100 { // two entries each
			enact(t, r, n, "medina.bucket/b1", value.Map{"n": int64(n)})
		}
		r.checkpoints.Lock() // none is on its way
		require.GreaterOrEqual(t, s.checkpoints, c.least, "%d records", c.records)
		require.LessOrEqual(t, s.checkpoints, c.most, "%d records", c.records)
		r.checkpoints.Unlock()
		end(t, r)
		state, err := open(t, s, "keeper-2").Load(ctx)
		require.NoError(t, err)
		require.Len(t, state.Records, c.records)
		require.LessOrEqual(t, state.sinceEntries, 1, "whoever reads next begins with what the end of a long run wrote")
	}
}

// held is a store in which checkpoints wait.
type held struct {
	store.Store
	began, free chan struct{}
}

func (h *held) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	if strings.Contains(key, "/checkpoint/") {
		h.began <- struct{}{}
		<-h.free
	}
	return h.Store.PutIfAbsent(ctx, key, body)
}

// TestCheckpointBeside: while a checkpoint is on its way to a slow store the run writes on and may call, and its end
// waits for it. The checkpoint says what was recorded when it began.
func TestCheckpointBeside(t *testing.T) {
	s := &held{memory.New(), make(chan struct{}, 9), make(chan struct{})}
	l := open(t, s, "keeper-1")
	r := begin(t, l, "run-1")
	for n := range checkpointEntries {
		enact(t, r, n, fmt.Sprintf("medina.bucket/b%d", n%300), value.Map{"n": int64(n)})
	}
	<-s.began
	for n := range 300 {
		enact(t, r, n+checkpointEntries, fmt.Sprintf("medina.bucket/b%d", n), value.Map{"n": int64(-n)})
		require.NoError(t, r.MayCall(ctx))
	}
	ended := make(chan error)
	go func() { ended <- r.End(ctx, End{Outcome: "done"}) }()
	select {
	case <-ended:
		require.Fail(t, "the run ended before its checkpoint was written")
	case <-time.After(50 * time.Millisecond):
	}
	close(s.free)
	require.NoError(t, <-ended)
	v, err := open(t, s, "keeper-2").Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
	require.Equal(t, 2, v.Checkpoints, "one beside the run, and one at its end")
}

// TestDamage: whatever byte of a stored object is changed or cut, reading
// says which object is damaged, and never answers with something else.
func TestDamage(t *testing.T) {
	good := memory.New()
	l := open(t, good, "keeper-1")
	r := begin(t, l, "run-1")
	enact(t, r, 1, "medina.bucket/a", value.Map{"words": "some words to compress, some words"})
	r.checkpoint()
	enact(t, r, 2, "medina.bucket/b", nil)
	end(t, r)
	keys, err := l.keys(ctx, l.prefix, "")
	require.NoError(t, err)
	for _, damaged := range keys {
		body, err := good.Get(ctx, damaged)
		require.NoError(t, err)
		for _, at := range []int{0, len(body) / 2, len(body) - 1} {
			for _, cut := range []bool{false, true} {
				bad := memory.New()
				for _, k := range keys {
					b, err := good.Get(ctx, k)
					require.NoError(t, err)
					if k == damaged {
						b = append([]byte(nil), b...)
						b[at] ^= 0x55
						if cut {
							b = b[:at]
						}
					}
					require.NoError(t, bad.PutIfAbsent(ctx, k, b))
				}
				_, err := open(t, bad, "reader").Verify(ctx)
				var d *damageError
				require.True(t, errors.As(err, &d), "%s at %d, cut %v: %v", damaged, at, cut, err)
			}
		}
	}
}

// flaky loses answers: a put has its effect and the caller hears nothing.
type flaky struct {
	store.Store
	lose int
}

func (f *flaky) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	err := f.Store.PutIfAbsent(ctx, key, body)
	if f.lose > 0 {
		f.lose--
		return errors.New("the connection was lost")
	}
	return err
}

// TestLostAnswer: a put whose answer was lost is found out about, and never
// taken for somebody else's.
func TestLostAnswer(t *testing.T) {
	s := &flaky{Store: memory.New(), lose: 2}
	l := open(t, s, "keeper-1")
	r := begin(t, l, "run-1")
	s.lose = 1
	enact(t, r, 1, "medina.bucket/a", nil)
	end(t, r)
	v, err := l.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
	require.EqualValues(t, 4, v.Entries)
}

// TestJudgingTheDead: a process of this machine that no longer runs is known
// to be dead; one that runs, or that nobody here can see, is not.
func TestJudgingTheDead(t *testing.T) {
	here := ThisProcess()
	if here.Boot == "" {
		t.Skip("this system does not tell")
	}
	require.False(t, here.gone())
	dead := here
	dead.Start = "1" // another one that had the number before
	require.True(t, dead.gone())
	for _, change := range []func(*Process){func(p *Process) { p.Boot = "other" },
		func(p *Process) { p.Namespace = "pid:[1]" }, func(p *Process) { p.Start = "" }} {
		p := dead
		change(&p)
		require.False(t, p.gone())
	}
	w := watcher{}
	h := &OpenRun{Run: "r", LastSeq: 5}
	const long = standStill + time.Second
	require.False(t, w.dead(h, 0, 0), "one look proves nothing")
	h.LastSeq = 6
	require.False(t, w.dead(h, long, long), "its entries move")
	require.False(t, w.dead(h, long+time.Second, 3*long), "a look that takes long says nothing of what came while it "+
		"went on")
	require.True(t, w.dead(h, 2*long+1, 2*long+1))
}

func TestBreakStale(t *testing.T) {
	s := memory.New()
	dead := open(t, s, "keeper-1")
	dead.who.Process = ThisProcess()
	dead.who.Process.Start = "1"
	if dead.who.Process.Boot == "" {
		t.Skip("this system does not tell")
	}
	r := begin(t, dead, "run-1")
	defer r.stop()
	two := open(t, s, "keeper-2")
	_, err := two.BeginWaiting(ctx, BeginOptions{ID: "run-2"}, WaitOptions{})
	var locked *LockedError
	require.ErrorAs(t, err, &locked)
	require.True(t, locked.Dead)
	next, err := two.BeginWaiting(ctx, BeginOptions{ID: "run-2"}, WaitOptions{BreakStale: true})
	require.NoError(t, err)
	end(t, next)
}

// FuzzEntry: no stored bytes make the reader panic.
func FuzzEntry(f *testing.F) {
	c, err := newCodec()
	require.NoError(f, err)
	body, err := c.encode(Header{Format: Format, Seq: 1, Kind: KindBegin}, []Line{{Kind: KindBegin, Begin: &Begin{}}})
	require.NoError(f, err)
	plain, err := c.dec.DecodeAll(body, nil)
	require.NoError(f, err)
	f.Add(plain)
	f.Add([]byte("{\"format\":\"kasbah.entry/1\",\"seq\":1}\n{\"kind\":\"note\",\"note\":{\"record\":{\"inputs\":{\"a\":{\"$pending\":{\"address\":\"x\",\"path\":\"[\"}}}}}}\n"))
	f.Fuzz(func(t *testing.T, plain []byte) {
		e, err := c.decode(1, c.enc.EncodeAll(plain, nil), nil)
		if err == nil {
			require.NotEmpty(t, e.Lines)
			s := NewState()
			s.Hash = e.Prev
			require.NoError(t, s.fold(e))
			_, err := c.encodeCheckpoint(s, "", nil)
			require.NoError(t, err)
		}
		_, _ = c.decode(1, plain, nil) // not compressed at all
		_, _ = c.decodeCheckpoint(1, append([]byte(hash(plain)+"\n"), plain...),
			func(*checkpointHeader) error { return nil })
	})
}

// BenchmarkLoad reads a ledger of 10 000 records from its checkpoint.
func BenchmarkLoad(b *testing.B) {
	s := memory.New()
	l := open(b, s, "keeper-1")
	r := begin(b, l, "run-1")
	var lines []Line
	for i := range 10_000 {
		rec := &Record{Address: fmt.Sprintf("medina.bucket/b%d", i), Type: "medina.bucket", ID: fmt.Sprint(i),
			Inputs: value.Attributes{"name": "x", "tags": value.Map{"a": "b"}}}
		lines = append(lines, Line{Kind: KindNote, Note: &Note{Record: rec}})
	}
	require.NoError(b, r.Append(ctx, lines...))
	r.checkpoint()
	end(b, r)
	for b.Loop() {
		_, err := l.Load(ctx)
		require.NoError(b, err)
	}
}
