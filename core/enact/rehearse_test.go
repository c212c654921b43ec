package enact_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// wrongs are declarations that Medina refuses, each on its own; %[1]d makes their names
// different.
var wrongs = []string{
	`n%[1]d = medina.network("n%[1]d", range = "10.200.0.0/16")
medina.subnet("s%[1]d", network = n%[1]d, range = "10.201.0.0/24")`,
	`n%[1]d = medina.network("n%[1]d", range = "10.200.0.0/16")
s%[1]d = medina.subnet("s%[1]d", network = n%[1]d, range = "10.200.2.0/24", zone = "north-2")
m%[1]d = medina.machine("m%[1]d", subnet = s%[1]d, size = "tiny", image = "stone-1")
medina.disk("d%[1]d", machine = m%[1]d, gigabytes = 10, zone = "north-1")`,
	`medina.bucket("b%[1]d", name = "taken")`, // by somebody else
}

// TestRehearsal: of what enact meets without it, a rehearsal says nearly all, and it says
// nothing that enact does not meet.
func TestRehearsal(t *testing.T) {
	oneByOne(t)
	ctx := context.Background()
	met, said := 0, 0
	for seed := range sample(60, 20, 20) {
		c := newCoast(t, uint64(seed))
		for range 15 {
			c.grow()
		}
		c.write()
		first := c.propose(false)
		require.NoError(t, enact.Rehearse(ctx, first, c.rehearsal()))
		require.NotNil(t, first.Rehearsed)
		require.Equal(t, first.Rehearsed.Calls, first.Rehearsed.Tried, "everything can be tried")
		require.Empty(t, first.Blocked, "nothing is invented")
		before := c.live()
		c.enact(first)
		require.NotEqual(t, before, c.live())

		// hand-made things stand on what is to be dropped
		_, err := c.drv.Create(ctx, "bucket", value.Map{"name": "taken"}, "")
		require.NoError(t, err)
		c.tail = ""
		for i := range 1 + c.rnd.IntN(4) {
			line := fmt.Sprintf(wrongs[c.rnd.IntN(len(wrongs))], seed*10+i)
			c.tail += line + "\n"
		}
		for range 3 {
			c.change()
		}
		if x := c.pick("disk"); x != nil {
			x.attrs["gigabytes"] = "1" // they never shrink
		}
		if x := c.pick("subnet"); x != nil && c.rnd.IntN(2) == 0 {
			for l := range liveOf(c, "subnet", x.name) {
				_, err := c.drv.Create(ctx, "machine", value.Map{"subnet": l, "size": "tiny", "image": "stone-1"}, "")
				require.NoError(t, err)
			}
			c.drop()
		}
		c.write()
		p := c.propose(false)
		require.NoError(t, enact.Rehearse(ctx, p, c.rehearsal()))
		would := map[string]bool{}
		for _, b := range p.Blocked {
			would[b.Address] = true
		}
		p.Blocked = []propose.Block{}
		c.runs++
		r, err := enact.Enact(ctx, p, enact.Options{
			Run: fmt.Sprintf("run-%d", c.runs),
			Clouds: enact.Clouds{Drivers: c.drivers(), Catalogs: map[string]*schema.Catalog{"medina": c.catalog},
				Ledgers: map[string]*ledger.Ledger{"shore": c.ledger()}},
			Pace: enact.Pace{Shows: -1, IfOneFails: enact.GoOn},
		})
		require.NoError(t, err)
		failed := map[string]bool{}
		for _, f := range r.Failures {
			failed[f.Address] = true
			if met++; would[f.Address] {
				said++
			} else {
				t.Logf("seed %d: %s was not foretold: %v", seed, f.Address, f)
			}
		}
		for _, a := range r.Actions { // what rests on what failed was not begun
			require.False(t, a.Outcome == "done" && would[a.Address], "seed %d: %s was foretold and went well", seed,
				a.Address)
		}
	}
	t.Logf("%d of %d refusals were foretold", said, met)
	require.Greater(t, met, 10)
	require.GreaterOrEqual(t, said*100, met*99)
}

// rehearsal is how a proposal for the coast is rehearsed.
func (c *coast) rehearsal() enact.RehearseOptions {
	return enact.RehearseOptions{
		Clouds: enact.Clouds{Drivers: c.drivers(), Catalogs: map[string]*schema.Catalog{"medina": c.catalog},
			Ledgers: map[string]*ledger.Ledger{"shore": c.ledger()}},
	}
}

// TestRehearsalBesideARun: a proposal is rehearsed after another run did what it proposes.
// That the things are there by now says nothing against it.
func TestRehearsalBesideARun(t *testing.T) {
	c := newCoast(t, 7)
	for range 15 {
		c.grow()
	}
	c.write()
	p := c.propose(false)
	c.enact(c.propose(false))
	require.NoError(t, enact.Rehearse(context.Background(), p, c.rehearsal()))
	require.Empty(t, p.Blocked)
	require.Contains(t, strings.Join(p.Warnings, "\n"), "another run is changing shore")
	require.Less(t, p.Rehearsed.Tried, p.Rehearsed.Calls)
	require.Zero(t, p.Rehearsed.Refused)
}

// liveOf are the ids of things of a type with a declaration's name in theirs.
func liveOf(c *coast, typ, name string) map[string]bool {
	out := map[string]bool{}
	for l, err := range c.drv.List(context.Background(), typ) {
		require.NoError(c.t, err)
		if is, _ := l.Attributes["name"].(string); strings.HasSuffix(is, "-"+name) {
			out[l.ID] = true
		}
	}
	return out
}
