package watch_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"testing"
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

// quick is a clock that runs faster.
type quick struct {
	from  time.Time
	began time.Time
	times time.Duration
}

func (q quick) Now() time.Time { return q.from.Add(time.Since(q.began) * q.times) }
func (q quick) After(d time.Duration) <-chan time.Time {
	return time.After(max(d/q.times, 2*time.Millisecond))
}

func journal(t *testing.T, s store.Store, who string) *ledger.Ledger {
	l, err := ledger.New(s, "coast", "live", ledger.JournalWard, ledger.Identity{Who: who, Host: "lighthouse", Program: "test"})
	require.NoError(t, err)
	return l
}

// state is what the journal says; of watchers that have ended, unless some still run.
func state(t *testing.T, s store.Store, running ...bool) *alert.State {
	st, err := journal(t, s, "reader").Load(context.Background())
	require.NoError(t, err)
	require.NotNil(t, st.Watch)
	require.Empty(t, st.Notes)
	if running != nil {
		return st.Watch
	}
	require.Empty(t, st.Open, "every watcher has ended its run")
	return st.Watch
}

// TestSeveral: watchers share the wards, and no slot is missed or surveyed twice.
func TestSeveral(t *testing.T) {
	const wards, times = 20, 600
	s := memory.New()
	clock := quick{time.Date(2026, 11, 29, 0, 0, 30, 0, time.UTC), time.Now(), times}
	plan := map[string]*schedule.Schedule{}
	for n := range wards {
		one, err := schedule.Parse("30m", "")
		require.NoError(t, err)
		ward := fmt.Sprintf("ward-%02d", n)
		plan[ward] = one.For("live", ward)
	}
	var mu sync.Mutex
	by, total := map[string]int{}, 0
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	for n := range 3 {
		who := fmt.Sprintf("watcher-%d", n)
		o := watch.Options{Env: "live", Journal: journal(t, s, who), AtOnce: 4, Clock: clock, Log: slog.New(slog.DiscardHandler),
			Wards: func() map[string]*schedule.Schedule { return plan },
			Survey: func(context.Context, string) (*watch.Found, error) {
				mu.Lock()
				defer mu.Unlock()
				by[who]++
				total++
				return &watch.Found{Counts: map[string]int{"matches": 1}}, nil
			}}
		running.Go(func() { o.Watch(ctx) })
	}
	time.Sleep(70 * time.Minute / times)
	cancel()
	running.Wait()
	st := state(t, s)
	require.Len(t, st.Wards, wards)
	for ward, w := range st.Wards {
		require.Nil(t, w.Claim)
		require.Less(t, clock.Now().Sub(*w.Done), time.Hour+30*time.Minute, ward)
		for i, p := range w.History[1:] {
			require.Less(t, p.At.Sub(w.History[i].At)*times, time.Hour+30*time.Minute, "%s missed a slot", ward)
		}
		total -= len(w.History)
	}
	require.Zero(t, total, "each survey counts for a slot of its own")
	require.Len(t, by, 3, "the work is shared: %v", by)
}

// TestFailures: a ward that cannot be surveyed is tried again, three times in a row are an alert, which
// ends when it works again. What was found before stays.
func TestFailures(t *testing.T) {
	ctx, s := context.Background(), memory.New()
	var log bytes.Buffer
	broken := false
	gauge := alert.Finding{Ward: "shore", Address: "medina.machine/gauge", Type: "medina.machine", Verdict: alert.Differs, Path: "size",
		Expected: &value.Any{V: "small"}, Found: &value.Any{V: "large"}}
	o := watch.Options{Env: "live", Journal: journal(t, s, "keeper-1"), Log: slog.New(slog.NewTextHandler(&log, nil)),
		Clock: quick{time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC), time.Now(), 1},
		Wards: func() map[string]*schedule.Schedule { return nil },
		Survey: func(context.Context, string) (*watch.Found, error) {
			if broken {
				return nil, errors.New("the cloud does not answer")
			}
			return &watch.Found{Findings: []alert.Finding{gauge}, Counts: map[string]int{"differs": 1}}, nil
		}}
	phases := func() map[string]alert.Phase {
		out := map[string]alert.Phase{}
		for _, a := range state(t, s).Alerts {
			out[a.Finding.Verdict] = a.Phase
		}
		return out
	}
	now := func() {
		done, err := o.Now(ctx, []string{"shore"})
		require.NoError(t, err)
		require.Equal(t, 1, done.Surveyed)
		require.Equal(t, broken, done.Failed == 1)
	}
	now()
	broken = true
	now()
	now()
	require.Equal(t, map[string]alert.Phase{"differs": alert.Open}, phases())
	now()
	now()
	require.Equal(t, map[string]alert.Phase{"differs": alert.Open, "failed": alert.Open}, phases())
	require.Equal(t, 4, state(t, s).Wards["shore"].Failures)
	require.Contains(t, log.String(), "the cloud does not answer")
	broken = false
	now()
	require.Equal(t, map[string]alert.Phase{"differs": alert.Open, "failed": alert.Resolved}, phases())
}
