package watch_test

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"log/slog"
	"math/rand/v2"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/alert"
	"kasbah/core/ledger"
	"kasbah/core/schedule"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/core/watch"
	"kasbah/stores/memory"
)

// trouble is what a simulated watcher meets.
type trouble string

const (
	well    trouble = "well"
	cutOff  trouble = "cut off" // its store does not answer
	stopped trouble = "stopped" // it stands still, as a program that is stopped or a machine that sleeps
	killed  trouble = "killed"  // it does nothing any more, and gives nothing back
)

// line is the store as one simulated watcher reaches it. Now and then an answer is lost.
type line struct {
	store.Store
	asked *atomic.Int64
	mu    sync.Mutex
	is    trouble
	goes  chan struct{} // closed when it is not stopped any more
	begun []time.Time   // of each trouble
	rng   *rand.Rand
}

func (l *line) meets(is trouble) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.is == stopped {
		close(l.goes)
	}
	if l.is = is; is == stopped {
		l.goes = make(chan struct{})
	}
	if is != well {
		l.begun = append(l.begun, time.Now())
	}
}

// hit reports whether the watcher has met trouble in a span of time.
func (l *line) hit(from, to time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.ContainsFunc(l.begun, func(at time.Time) bool { return at.After(from.Add(-6*time.Minute)) && at.Before(to) })
}

var errAway = errors.New("the store does not answer")

// passes waits while the watcher stands still, and is an error while the store is out of reach.
func (l *line) passes() error {
	l.asked.Add(1)
	time.Sleep(2 * time.Millisecond)
	for {
		l.mu.Lock()
		is, goes := l.is, l.goes
		l.mu.Unlock()
		switch is {
		case stopped:
			<-goes
		case well:
			return nil
		default:
			time.Sleep(time.Second)
			return errAway
		}
	}
}

func (l *line) loses() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.rng.IntN(200) == 0
}

func (l *line) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	if err := l.passes(); err != nil {
		return err
	}
	err := l.Store.PutIfAbsent(ctx, key, body)
	if l.loses() {
		return errAway
	}
	return err
}

func (l *line) Get(ctx context.Context, key string) ([]byte, error) {
	if err := l.passes(); err != nil {
		return nil, err
	}
	return l.Store.Get(ctx, key)
}

func (l *line) List(ctx context.Context, prefix, after string) iter.Seq2[string, error] {
	if err := l.passes(); err != nil {
		return func(yield func(string, error) bool) { yield("", err) }
	}
	return l.Store.List(ctx, prefix, after)
}

// bubble is the clock of a simulation, which goes on when everybody waits.
type bubble struct{}

func (bubble) Now() time.Time                         { return time.Now() }
func (bubble) After(d time.Duration) <-chan time.Time { return time.After(d) }

// day is a simulated day.
type day struct {
	t      *testing.T
	store  *memory.Store
	wards  map[string]*schedule.Schedule
	room   *desk
	began  time.Time
	mu     sync.Mutex
	rng    *rand.Rand
	is     map[string]int // what is live, by ward: another number is another edit; 0 for as declared
	done   map[string][]survey
	taken  int
	lines  []*line
	cloud  bool // whether the cloud is away
	asked  atomic.Int64
	number int
}

// survey is one that was made for a slot.
type survey struct {
	due, from, to time.Time
	by            *line
}

// desk is a receiver that fails now and then.
type desk struct {
	mu    sync.Mutex
	rng   *rand.Rand
	away  bool
	tries int
	got   map[string][]string // by alert: what happened, in the order in which it came, each message once
	ids   map[string]int
}

func (*desk) Name() string              { return "room" }
func (*desk) Wants(*alert.Message) bool { return true }

func (d *desk) Send(_ context.Context, m *alert.Message) error {
	time.Sleep(100 * time.Millisecond)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.tries++
	if d.away || d.rng.IntN(20) == 0 {
		return errors.New("the desk is empty")
	}
	if d.ids[m.ID]++; d.ids[m.ID] == 1 {
		d.got[m.Alert.ID] = append(d.got[m.Alert.ID], string(m.Kind))
	}
	if d.rng.IntN(20) == 0 {
		return errors.New("the answer was lost")
	}
	return nil
}

func (d *desk) is(away bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.away = away
}

func (d *desk) tried() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.tries
}

func newDay(t *testing.T, wards int, every string, seed uint64) *day {
	d := &day{t: t, store: memory.New(), wards: map[string]*schedule.Schedule{}, began: time.Now(), rng: rand.New(rand.NewPCG(seed, 1)),
		is: map[string]int{}, done: map[string][]survey{},
		room: &desk{rng: rand.New(rand.NewPCG(seed, 2)), got: map[string][]string{}, ids: map[string]int{}}}
	for n := range wards {
		one, err := schedule.Parse(every, "")
		require.NoError(t, err)
		ward := fmt.Sprintf("ward-%03d", n)
		d.wards[ward] = one.For("live", ward)
	}
	return d
}

// watcher starts one, and returns how it reaches the store, and what ends it.
func (d *day) watcher() (*line, func()) {
	d.number++
	l := &line{Store: d.store, asked: &d.asked, is: well, rng: rand.New(rand.NewPCG(uint64(d.number), 3))}
	d.lines = append(d.lines, l)
	journal, err := ledger.New(l, "coast", "live", ledger.JournalWard, ledger.Identity{Who: fmt.Sprint("watcher-", d.number), Host: "lighthouse", Program: "test"})
	require.NoError(d.t, err)
	journal.ClockedBy(func() time.Duration { return time.Since(d.began) })
	o := watch.Options{Env: "live", Journal: journal, AtOnce: 4, Clock: bubble{}, Log: slog.New(&takeovers{Handler: slog.DiscardHandler, d: d}),
		Wards: func() map[string]*schedule.Schedule { return d.wards }, Receivers: []watch.Receiver{d.room},
		Survey: func(ctx context.Context, ward string) (*watch.Found, error) { return d.survey(ctx, l, ward) }}
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		o.Watch(ctx)
	}()
	return l, func() {
		cancel()
		<-ended
	}
}

// takeovers counts those of a log.
type takeovers struct {
	slog.Handler
	d *day
}

func (h *takeovers) Enabled(context.Context, slog.Level) bool { return true }
func (h *takeovers) WithAttrs([]slog.Attr) slog.Handler       { return h }
func (h *takeovers) Handle(_ context.Context, r slog.Record) error {
	if r.Message == "another watcher is dead; what it surveyed is free again" {
		h.d.mu.Lock()
		defer h.d.mu.Unlock()
		h.d.taken++
	}
	return nil
}

// survey takes some seconds, and finds what is live then.
func (d *day) survey(ctx context.Context, l *line, ward string) (*watch.Found, error) {
	from := time.Now()
	d.mu.Lock()
	due, takes := d.wards[ward].Last(from), time.Duration(1+d.rng.IntN(8))*time.Second
	d.mu.Unlock()
	select {
	case <-time.After(takes):
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	l.mu.Lock()
	is, goes := l.is, l.goes
	l.mu.Unlock()
	if is == stopped {
		<-goes
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.rng.IntN(20) == 0 {
		d.is[ward] = d.rng.IntN(3)
	}
	if d.cloud {
		return nil, errors.New("the cloud does not answer")
	}
	d.done[ward] = append(d.done[ward], survey{due, from, time.Now(), l})
	out := &watch.Found{Counts: map[string]int{"matches": 500}}
	if n := d.is[ward]; n > 0 {
		out.Findings = []alert.Finding{{Ward: ward, Address: "medina.machine/gauge", Verdict: alert.Differs, Path: "size", Found: &value.Any{V: int64(n)}}}
	}
	return out, nil
}

// TestDay: 200 wards are surveyed every ten minutes by three watchers of which, again and again, one is killed,
// stopped for five minutes, or cut off from the store. No slot is missed by more than a period, none is surveyed
// twice but after a takeover, and the receiver gets every event at least once, in its order, under one id. The usual tests
// have fewer wards and hours.
func TestDay(t *testing.T) {
	wards, hours := 40, 6
	switch {
	case os.Getenv("THOROUGH") != "":
		wards, hours = 200, 24
	case testing.Short():
		wards, hours = 20, 2
	}
	began := time.Now()
	synctest.Test(t, func(t *testing.T) {
		const period = 10 * time.Minute
		d, rng := newDay(t, wards, "10m", 7), rand.New(rand.NewPCG(7, 4))
		ends := map[*line]func(){}
		start := func() {
			l, end := d.watcher()
			ends[l] = end
		}
		for range 3 {
			start()
		}
		kinds := map[trouble]int{}
		for at := time.Duration(0); at < time.Duration(hours)*time.Hour; {
			time.Sleep(12 * time.Minute)
			running := slices.Collect(func(yield func(*line) bool) {
				for _, l := range d.lines {
					if ends[l] != nil && !yield(l) {
						return
					}
				}
			})
			l := running[rng.IntN(len(running))]
			is := []trouble{killed, stopped, cutOff}[rng.IntN(3)]
			kinds[is]++
			l.meets(is)
			time.Sleep(5 * time.Minute)
			if is == killed {
				ends[l]()
				delete(ends, l)
				start()
			} else {
				l.meets(well)
			}
			at += 17 * time.Minute
		}
		time.Sleep(period)
		for l, end := range ends {
			end()
			delete(ends, l)
		}
		st := state(t, d.store)
		slots, late, twice := 0, time.Duration(0), 0
		for ward, s := range d.wards {
			last := map[time.Time]survey{}
			slices.SortFunc(d.done[ward], func(x, y survey) int { return x.from.Compare(y.from) })
			for _, x := range d.done[ward] {
				before, again := last[x.due]
				if again {
					twice++
					require.True(t, before.by.hit(before.from, x.from), "%s was surveyed twice for %s, at %s and %s", ward, x.due, before.from, x.from)
				}
				last[x.due] = x
			}
			require.Len(t, st.Wards[ward].History, len(last), "what was surveyed is written down")
			for due, x := range last {
				if due.After(d.began) {
					late = max(late, x.to.Sub(due))
				}
			}
			for due := s.Next(d.began); due.Before(time.Now().Add(-period)); due = s.Next(due) {
				slots++
				require.Contains(t, last, due, "%s has missed a slot", ward)
			}
		}
		require.Less(t, late, period)
		require.Empty(t, st.Outbox)
		events, repeated := 0, 0
		for id, a := range st.Alerts {
			var want []string
			for _, step := range a.Steps {
				want = append(want, string(step.Kind))
			}
			require.Equal(t, want, d.room.got[id], "the receiver has every event, in its order")
			events += len(want)
		}
		for _, n := range d.room.ids {
			repeated += n - 1
		}
		t.Logf("%d wards, %d h, %v: %d slots, the latest survey ended %v after it was due, %d surveyed again after %d takeovers; %d events, %d told again, in %d tries; "+
			"%d entries", wards, hours, kinds, slots, late.Round(time.Second), twice, d.taken, events, repeated, d.room.tries, entries(t, d.store))
	})
	t.Logf("it took %v", time.Since(began).Round(time.Second))
}

// TestHours: the store is away for an hour, the cloud for another, the receiver for a third. Nothing is lost,
// the store and the receiver are asked seldom meanwhile, and what is late is done once and not all at one moment.
func TestHours(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		d := newDay(t, 60, "10m", 11)
		var ends []func()
		for range 3 {
			_, end := d.watcher()
			ends = append(ends, end)
		}
		all := func(is trouble) {
			for _, l := range d.lines {
				l.meets(is)
			}
		}
		surveys := func(from, to time.Time) (n int) {
			d.mu.Lock()
			defer d.mu.Unlock()
			for _, list := range d.done {
				for _, x := range list {
					if x.from.After(from) && x.from.Before(to) {
						n++
					}
				}
			}
			return n
		}
		time.Sleep(time.Hour)
		before := surveys(time.Now().Add(-20*time.Minute), time.Now())
		require.InDelta(t, 120, before, 6, "two for each ward; one may begin some seconds late")

		all(cutOff)
		tries := d.asked.Load()
		time.Sleep(time.Hour)
		tries = d.asked.Load() - tries
		require.Less(t, tries, int64(3*150), "a store that is away is asked seldom")
		back := time.Now()
		all(well)
		time.Sleep(5 * time.Minute)
		caught := surveys(back, time.Now())
		require.GreaterOrEqual(t, caught, 60, "every ward is caught up with")
		require.LessOrEqual(t, caught, 60+40, "once, for what was missed")
		time.Sleep(5 * time.Minute)

		d.mu.Lock()
		d.cloud = true
		d.mu.Unlock()
		time.Sleep(time.Hour)
		j := state(t, d.store, true)
		for ward, w := range j.Wards {
			require.GreaterOrEqual(t, w.Failures, 5, ward)
		}
		open := 0
		for _, a := range j.Alerts {
			if a.Finding.Verdict == alert.Failed && a.Phase == alert.Open {
				open++
			}
		}
		require.Equal(t, 60, open, "each ward that cannot be surveyed is an alert")
		d.mu.Lock()
		d.cloud = false
		d.mu.Unlock()
		time.Sleep(15 * time.Minute)
		for _, a := range state(t, d.store, true).Alerts {
			require.False(t, a.Finding.Verdict == alert.Failed && a.Phase == alert.Open, "and is resolved by itself")
		}

		d.room.is(true)
		tried := d.room.tried()
		time.Sleep(time.Hour)
		require.Less(t, d.room.tried()-tried, 40, "a receiver that is away is tried seldom")
		require.NotEmpty(t, state(t, d.store, true).Outbox)
		d.room.is(false)
		time.Sleep(time.Hour)
		for _, end := range ends {
			end()
		}
		st := state(t, d.store)
		require.Empty(t, st.Outbox)
		for id, a := range st.Alerts {
			var want []string
			for _, step := range a.Steps {
				want = append(want, string(step.Kind))
			}
			require.Equal(t, want, d.room.got[id], "the receiver has every event, in its order")
		}
		t.Logf("store away: %d tries of three watchers, %d surveys in the five minutes after it", tries, caught)
	})
}

// entries counts what the journal has.
func entries(t *testing.T, s store.Store) (n int) {
	for _, err := range s.List(context.Background(), "coast/live/~watch/log/", "") {
		require.NoError(t, err)
		n++
	}
	return n
}
