package enact_test

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/medina"
)

func (c *coast) faults(clear bool, add *medina.Fault) {
	s := medina.Settings{API: "embedded", Options: medina.Options{Path: filepath.Join(c.dir, "medina.db")}}
	_, err := s.Faults(context.Background(), clear, add)
	require.NoError(c.t, err)
}

// plainPicture is the picture without what moves when a thing is edited and
// edited back, or made again.
func (c *coast) plainPicture() map[string]string {
	out := map[string]string{}
	for name, text := range c.picture() {
		v, err := value.Decode([]byte(text))
		require.NoError(c.t, err, "two things are called %s: %s", name, text)
		m := v.(map[string]any)
		delete(m, "revision")
		out[name] = string(value.Encode(m))
	}
	return out
}

// meet runs a change of every action whose n-th writing call meets a fault.
// A fault that does not pass lasts until the action has failed. It reports
// whether there was such a call.
func meet(t *testing.T, kind string, lasting bool, n int, then enact.IfOneFails) bool {
	ctx := context.Background()
	c := everyAction(t)
	before := c.plainPicture()
	p := c.propose(false)
	times := 1
	if lasting {
		times = 1000
	}
	writes := 0
	o := c.options("run", &faulty{Driver: c.drv, keys: map[string]int{}, before: func(call, typ, id string) error {
		if writes++; writes == n {
			for _, on := range []string{"create", "edit", "delete"} {
				c.faults(false, &medina.Fault{Kind: kind, On: on, Times: times, Millis: 20})
			}
		}
		return nil
	}}, c.store)
	o.IfOneFails, o.Timeout = then, 10*time.Second
	if lasting && kind != "refuse" {
		// short runs are those that look for races, which are slow
		o.Timeout = time.Duration(sample(600, 600, 2500)) * time.Millisecond
	}
	failed := 0
	o.Event = func(e enact.Event) {
		if e.Kind == enact.EventFailed {
			failed++
			c.faults(true, nil)
		}
	}
	r, err := enact.Enact(ctx, p, o)
	require.NoError(t, err)
	if writes < n {
		require.Equal(t, "done", r.Outcome)
		return false
	}
	require.Equal(t, r.Counts.Total,
		r.Counts.Done+r.Counts.Failed+r.Counts.NotBegun+r.Counts.Unfinished+r.Counts.Unclear, "%+v", r.Counts)
	became := map[string]int{}
	for _, a := range r.Actions {
		became[a.Outcome]++
	}
	if then != enact.Undo {
		require.Equal(t, map[string]int{"not begun": r.Counts.NotBegun, "unfinished": r.Counts.Unfinished},
			map[string]int{"not begun": became["not begun"], "unfinished": became["unfinished"]})
	}
	if !lasting && kind != "refuse" {
		require.Equal(t, "done", r.Outcome, "%v", r.Failures)
		require.Zero(t, failed)
	} else {
		require.Positive(t, failed) // a call that went on beside it may end with it
		checkPromise(t, c, r, then, before)
	}
	// whatever happened, the next run ends as an undisturbed one
	_, err = enact.Recover(ctx, map[string]ledger.Scope{"shore": ledger.Whole}, nil, c.options("recovery", c.drv,
		c.store))
	require.NoError(t, err)
	c.enact(c.propose(false))
	for _, a := range c.propose(false).Actions {
		require.Equal(t, propose.Same, a.Kind, "%s: %s %v", a.Address, a.Because, a.Changes)
	}
	require.Len(t, c.live(), len(c.things), "nothing is doubled, nothing is lost")
	v, err := c.ledger().Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
	return true
}

func checkPromise(t *testing.T, c *coast, r *enact.Result, then enact.IfOneFails, before map[string]string) {
	switch then {
	case enact.StopThen:
		require.Equal(t, "failed", r.Outcome)
		require.Empty(t, r.Undone)
	case enact.GoOn:
		require.Equal(t, "failed", r.Outcome)
		waits := map[string]bool{}
		for _, f := range r.Failures {
			waits[f.Address] = true
		}
		s, err := c.ledger().Load(context.Background())
		require.NoError(t, err)
		// nothing stands between them and their end
		for _, free := range []string{"medina.bucket/fresh", "medina.bucket/edited"} {
			if waits[free] {
				continue
			}
			require.NotNil(t, s.Records[free], "%s", free)
			r, err := s.Records[free].Record()
			require.NoError(t, err)
			require.Equal(t, "run", r.Run, "%s", free)
		}
	case enact.Undo:
		require.Equal(t, "undone", r.Outcome, "%+v", r.Undone)
		require.Equal(t, before, c.plainPicture())
		for _, u := range r.Undone {
			require.NoError(t, u.Err)
		}
		again := c.propose(false) // the same change as before, from records that fit what is live
		require.Equal(t, propose.Counts{New: 1, Edit: 6, Swap: 4, Drop: 1, Adopt: 1, Rename: 1, Same: 2}, again.Counts)
		for _, a := range again.Actions {
			for _, ch := range a.Changes {
				require.False(t, ch.ByHand, "%s %s", a.Address, ch.Path)
			}
		}
	}
}

// TestEveryFaultAtEveryCall: each of Medina's faults, passing and lasting, at
// each call of a run of every action, and each thing to do then.
func TestEveryFaultAtEveryCall(t *testing.T) {
	stride := sample(1, 7, 41)
	for _, k := range medina.FaultKinds {
		for _, lasting := range []bool{false, true} {
			if lasting && k.Name == "delay" || !lasting && k.Name == "refuse" {
				continue
			}
			for _, then := range []enact.IfOneFails{enact.StopThen, enact.GoOn, enact.Undo} {
				if !lasting && then != enact.StopThen {
					continue // it passes: nothing fails
				}
				t.Run(strings.ReplaceAll(fmt.Sprintf("%s lasting %v %s", k.Name, lasting, then), " ", "-"),
					func(t *testing.T) {
						t.Parallel()
						n := 1
						for ; meet(t, k.Name, lasting, n, then); n += stride {
						}
						require.Greater(t, n, 10)
					})
			}
		}
	}
}
