package watch_test

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/alert"
	"kasbah/core/schedule"
	"kasbah/core/value"
	"kasbah/core/watch"
	"kasbah/stores/memory"
)

// receiver gets messages, unless it is out of order.
type receiver struct {
	name  string
	mu    sync.Mutex
	wrong bool
	tries int
	got   []string // ALERT KIND
	ids   map[string]int
}

func (r *receiver) Name() string              { return r.name }
func (r *receiver) Wants(*alert.Message) bool { return true }
func (r *receiver) Send(_ context.Context, m *alert.Message) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.tries++; r.wrong {
		return errors.New("out of order")
	}
	r.got = append(r.got, m.Alert.Finding.Address+" "+string(m.Kind))
	if r.ids == nil {
		r.ids = map[string]int{}
	}
	r.ids[m.ID]++
	return nil
}

// told are the messages that it has got by now.
func (r *receiver) told() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]string{}, r.got...)
}

func (r *receiver) breaks(wrong bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.wrong = wrong
}

// TestDelivery: each receiver is told of what happens to each alert, in its order, also by another watcher
// than the one that found it, and after it was out of order; one that is for a day is an alert.
func TestDelivery(t *testing.T) {
	ctx, s := context.Background(), memory.New()
	room, pager := &receiver{name: "room"}, &receiver{name: "pager", wrong: true}
	clock := &stepped{now: time.Now()} // entries are written by the real time
	found := map[string]string{}
	o := watch.Options{Env: "live", Journal: journal(t, s, "keeper-1"), Log: slog.New(slog.DiscardHandler), Clock: clock,
		Wards:     func() map[string]*schedule.Schedule { return nil },
		Receivers: []watch.Receiver{room, pager},
		Survey: func(context.Context, string) (*watch.Found, error) {
			out := &watch.Found{}
			for _, name := range value.Keys(found) {
				out.Findings = append(out.Findings, alert.Finding{Ward: "shore", Address: name, Verdict: alert.Differs, Path: "size",
					Found: &value.Any{V: found[name]}})
			}
			return out, nil
		}}
	survey := func(values ...string) {
		clear(found)
		for i := 0; i < len(values); i += 2 {
			found[values[i]] = values[i+1]
		}
		_, err := o.Now(ctx, []string{"shore"})
		require.NoError(t, err)
	}
	survey("gauge", "large", "relay", "tiny")
	survey("gauge", "small", "relay", "tiny")
	survey("relay", "tiny")
	want := []string{"gauge opened", "relay opened", "gauge changed", "gauge resolved"}
	require.Equal(t, want, room.told())
	require.Empty(t, pager.told())
	require.Len(t, state(t, s).Outbox, 4, "they wait for the pager")

	pager.breaks(false)
	survey("relay", "tiny")
	require.Equal(t, want, pager.told(), "nothing is lost, and the order is kept")
	require.Equal(t, want, room.told(), "once is enough")
	require.Empty(t, state(t, s).Outbox)

	pager.breaks(true)
	survey()
	clock.now = clock.now.Add(25 * time.Hour)
	survey()
	require.Empty(t, state(t, s).Outbox, "after a day it is given up")
	untold := func() (out []alert.Phase) {
		for _, a := range state(t, s).Alerts {
			if a.Finding.Verdict == alert.Untold {
				require.Equal(t, "pager out of order", a.Finding.Path+" "+a.Finding.Because)
				out = append(out, a.Phase)
			}
		}
		return out
	}
	require.Equal(t, []alert.Phase{alert.Open}, untold())
	pager.breaks(false)
	survey("gauge", "large")
	require.Equal(t, []alert.Phase{alert.Resolved}, untold())
}

// stepped is a clock that stands still until it is set.
type stepped struct{ now time.Time }

func (s *stepped) Now() time.Time                         { return s.now }
func (s *stepped) After(d time.Duration) <-chan time.Time { return time.After(d) }

// TestDeliveryOfSeveral: of several watchers one tells, and a receiver that comes and goes gets everything,
// each message under one id.
func TestDeliveryOfSeveral(t *testing.T) {
	s := memory.New()
	room := &receiver{name: "room"}
	clock := quick{time.Date(2026, 11, 29, 0, 0, 0, 0, time.UTC), time.Now(), 6000}
	plan := map[string]*schedule.Schedule{}
	for n := range 6 {
		one, err := schedule.Parse("20m", "")
		require.NoError(t, err)
		plan[fmt.Sprint("ward-", n)] = one.For("live", fmt.Sprint("ward-", n))
	}
	var mu sync.Mutex
	n := 0
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	for w := range 3 {
		o := watch.Options{Env: "live", Journal: journal(t, s, fmt.Sprint("watcher-", w)), AtOnce: 2, Clock: clock,
			Log: slog.New(slog.DiscardHandler), Wards: func() map[string]*schedule.Schedule { return plan },
			Receivers: []watch.Receiver{room},
			Survey: func(_ context.Context, ward string) (*watch.Found, error) {
				mu.Lock()
				defer mu.Unlock()
				n++
				return &watch.Found{Findings: []alert.Finding{{Ward: ward, Address: ward, Verdict: alert.Differs, Path: "size",
					Found: &value.Any{V: int64(n)}}}}, nil
			}}
		running.Go(func() { o.Watch(ctx) })
	}
	for i := range 10 {
		time.Sleep(200 * time.Millisecond)
		room.breaks(i%3 == 1)
	}
	room.breaks(false)
	cancel()
	running.Wait()
	o := watch.Options{Env: "live", Journal: journal(t, s, "last"), Clock: clock, Log: slog.New(slog.DiscardHandler),
		Wards: func() map[string]*schedule.Schedule { return nil }, Receivers: []watch.Receiver{room}}
	_, err := o.Once(context.Background())
	require.NoError(t, err)
	require.Empty(t, state(t, s).Outbox)
	mu.Lock()
	defer mu.Unlock()
	require.GreaterOrEqual(t, len(room.ids), n, "each survey finds something else, and that is told")
	last := map[string]string{}
	for _, one := range room.told() {
		last[one[:6]] = one
	}
	require.Len(t, last, 6)
}
