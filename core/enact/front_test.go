package enact_test

import (
	"context"
	"fmt"
	"net/http/httptest"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/drivers/drivertest"
	"kasbah/medina"
)

// mix is a kind of cloud.
type mix struct{ keys, tags, slow, names bool }

func (m mix) String() string {
	words := []string{}
	for word, on := range map[string]bool{"keys": m.keys, "tags": m.tags, "slow": m.slow, "names": m.names} {
		if on {
			words = append(words, word)
		}
	}
	if len(words) == 0 {
		return "bare"
	}
	return strings.Join(words, "+")
}

// behind makes the estate's cloud one of a kind, with a front before it.
func (c *coast) behind(m mix) *drivertest.Front {
	t := c.t
	o := medina.Options{Path: filepath.Join(c.dir, "behind.db")}
	if m.slow {
		o.Pace = 0.001
	}
	server, err := medina.Open(o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Close()) })
	front := &drivertest.Front{API: server, Plain: !m.keys, Loose: !m.tags}
	l := httptest.NewServer(front)
	t.Cleanup(l.Close)
	c.drv, err = medina.Settings{API: l.URL}.Driver("tester")
	require.NoError(t, err)
	drv := c.drv
	t.Cleanup(func() { require.NoError(t, drv.Close()) })
	c.catalog, err = c.drv.Describe(context.Background())
	require.NoError(t, err)
	for _, typ := range c.catalog.Types {
		if typ.Tags = m.tags; !m.keys {
			typ.KeyMemory = 0
		}
		if typ.Copies, typ.Locate, typ.Identify = false, false, nil; m.names {
			typ.Identify = []string{"name"}
		}
	}
	return front
}

var askedFor = regexp.MustCompile(`-made (\S+)=ID`)

// person answers the question that a recovery asks: which thing it is, or none.
func (c *coast) person(question string) map[string]string {
	m := askedFor.FindStringSubmatch(question)
	require.NotNil(c.t, m, "an address that stays closed says why, and what a person can do: %s", question)
	s, err := c.ledger().Load(context.Background())
	require.NoError(c.t, err)
	want, held := "", map[string]bool{}
	for _, in := range s.Intents {
		if value.InWard("shore", in.Intent.Address) == m[1] {
			want, _ = in.Intent.Inputs["name"].(string)
		}
	}
	for _, st := range s.Records {
		r, err := st.Record()
		require.NoError(c.t, err)
		held[r.ID] = true
		for _, l := range r.Leftovers {
			held[l.ID] = true
		}
	}
	for id, l := range c.live() {
		if l.Attributes["name"] == want && !held[id] {
			return map[string]string{m[1]: id}
		}
	}
	return map[string]string{m[1]: "none"}
}

// settled goes on as the next person would, until there is nothing to do.
func (c *coast) settled(run string, want map[string]string) {
	t, ctx := c.t, context.Background()
	var made map[string]string
	for round := 1; ; round++ {
		_, err := enact.Recover(ctx, map[string]ledger.Scope{"shore": ledger.Whole}, made,
			c.options(fmt.Sprintf("%s-recovery-%d", run, round), c.drv, c.store))
		if err == nil {
			break
		}
		require.Less(t, round, 5, "%v", err)
		made = c.person(err.Error())
	}
	p := c.propose(false)
	for _, a := range p.Actions {
		for _, ch := range a.Changes {
			require.False(t, ch.ByHand, "%s %s: a call of ours counts as a hand edit", a.Address, ch.Path)
		}
	}
	c.enact(p)
	for _, a := range c.propose(false).Actions {
		require.Equal(t, propose.Same, a.Kind, "%s: %s %v", a.Address, a.Because, a.Changes)
	}
	require.Equal(t, want, c.picture())
	v, err := c.ledger().Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
}

// TestEveryTrickAtEveryWrite: an API that misbehaves in every way, at each write of a
// run of every action, on every mix of keys, tags, names and slow work. Afterwards the
// cloud and the ledger agree, or the address is closed and says why.
func TestEveryTrickAtEveryWrite(t *testing.T) {
	stride := sample(1, 37, 300)
	for bits := 0; bits < 16; bits += sample(1, 15, 15) {
		m := mix{bits&1 > 0, bits&2 > 0, bits&4 > 0, bits&8 > 0}
		t.Run(m.String(), func(t *testing.T) {
			t.Parallel()
			undisturbed := newCoast(t, 1)
			undisturbed.behind(m)
			undisturbed.everyAction()
			undisturbed.enact(undisturbed.propose(false))
			want := undisturbed.picture()
			for i, trick := range drivertest.Tricks() {
				for n := 1 + (bits+i)%stride; ; n += stride {
					more := false
					ok := t.Run(fmt.Sprintf("%s at %d", trick.Name, n), func(t *testing.T) {
						c := newCoast(t, 1)
						front := c.behind(m)
						c.everyAction()
						p := c.propose(false)
						front.Misbehave(n, trick)
						o := c.options("run", c.drv, c.store)
						o.Timeout, o.Shows = 1500*time.Millisecond, 300*time.Millisecond
						r, err := enact.Enact(context.Background(), p, o)
						more = front.Behave()
						require.NoError(t, err)
						require.Equal(t, r.Counts.Total,
							r.Counts.Done+r.Counts.Failed+r.Counts.NotBegun+r.Counts.Unfinished+r.Counts.Unclear, "%+v",
							r.Counts)
						c.settled("run", want)
					})
					if !ok || !more {
						break
					}
				}
			}
		})
	}
}
