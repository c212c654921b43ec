package enact_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/propose"
)

// corner makes an estate with two subnets, a machine on each, and a bucket.
func corner(t *testing.T) *coast {
	c := newCoast(t, 1)
	put := func(typ, name, on string, attrs map[string]string) {
		c.things[name] = &thing{typ: typ, name: name, on: on, attrs: attrs}
	}
	put("network", "net", "", map[string]string{"range": `"10.0.0.0/16"`})
	for _, n := range []string{"east", "west"} {
		put("subnet", n, "net", map[string]string{"range": map[string]string{"east": `"10.0.1.0/24"`,
			"west": `"10.0.2.0/24"`}[n]})
		put("machine", n+"ern", n, map[string]string{"size": `"small"`, "image": `"stone-1"`})
	}
	put("bucket", "charts", "", map[string]string{})
	c.write()
	c.enact(c.propose(false))
	return c
}

func (c *coast) machine(name, on string) {
	c.things[name] = &thing{typ: "machine", name: name, on: on, attrs: map[string]string{"size": `"small"`,
		"image": `"stone-1"`}}
	c.write()
}

func refusedWith(t *testing.T, err error, words ...string) {
	var refused *enact.Refused
	require.ErrorAs(t, err, &refused)
	for _, w := range words {
		require.Contains(t, refused.Error(), w)
	}
}

// TestProposalScope: a proposal locks what it changes, what that rests on for
// reading, and nothing else.
func TestProposalScope(t *testing.T) {
	c := corner(t)
	require.Empty(t, c.propose(false).Scopes(), "nothing to do, nothing to lock")
	c.machine("lamp", "east")
	c.things["western"].attrs["size"] = `"large"`
	c.write()
	require.Equal(t, map[string]ledger.Scope{"shore": {
		Writes: []string{"medina.machine/lamp", "medina.machine/western"}, Reads: []string{"medina.subnet/east",
			"medina.subnet/west"},
	}}, c.propose(false).Scopes())
	delete(c.things, "charts")
	c.only = []string{"medina.bucket/*"}
	c.write()
	require.Equal(t, map[string]ledger.Scope{"shore": {Writes: []string{"medina.bucket/charts"}}},
		c.propose(false).Scopes(), "what goes rests on nothing")
	require.True(t, c.propose(true).Scopes()["shore"].Whole)
}

// TestDeadElsewhere: a call of a dead run whose end is not known closes what it
// was made for and what rests on that, and nothing else.
func TestDeadElsewhere(t *testing.T) {
	ctx := context.Background()
	c := corner(t)
	c.machine("lamp", "east")
	before := c.propose(false) // rests on east, and knows nothing of what follows
	dead, err := c.ledger().Begin(ctx, ledger.BeginOptions{ID: "dead",
		Scope: ledger.NewScope([]string{"medina.subnet/east"}, nil)})
	require.NoError(t, err)
	east, err := dead.Record("medina.subnet/east")
	require.NoError(t, err)
	require.NoError(t, dead.Append(ctx, ledger.Line{Kind: ledger.KindIntent, Intent: &ledger.Intent{
		ID: "1", Address: "medina.subnet/east", Type: "medina.subnet", Action: "edit", Call: "update", Thing: east.ID,
		Tag: "nobody has it", Key: "k", Plan: east,
	}}))
	_, err = enact.Enact(ctx, before, c.options("locked", c.drv, c.store))
	var locked *ledger.LockedError
	require.ErrorAs(t, err, &locked)
	require.Equal(t, "medina.subnet/east", locked.Address)
	require.NoError(t, c.ledger().Break(ctx, "dead", "a test", ""))

	_, err = enact.Enact(ctx, before, c.options("resting", c.drv, c.store))
	refusedWith(t, err, "medina.subnet/east has a call without a result", "kasbah lock recover dead")

	delete(c.things, "lamp")
	c.machine("beacon", "west")
	c.only = []string{"medina.machine/beacon"}
	p := c.propose(false)
	require.Empty(t, p.Unfinished, "it lies elsewhere")
	c.enact(p)
	s, err := c.ledger().Load(ctx)
	require.NoError(t, err)
	require.Len(t, s.Unresolved(), 1, "nobody else's business")

	c.only = nil
	c.enact(c.propose(false)) // it writes east, and finds out first
	s, err = c.ledger().Load(ctx)
	require.NoError(t, err)
	require.Empty(t, s.Unresolved())
	require.Empty(t, s.Open)
}

// TestUsedSince: what has got a user since the proposal, or has one that -only
// left out, is neither dropped nor swapped.
func TestUsedSince(t *testing.T) {
	ctx := context.Background()
	for _, test := range []struct {
		name   string
		change func(c *coast)
	}{
		{"drop", func(c *coast) { delete(c.things, "west"); delete(c.things, "western") }},
		{"swap", func(c *coast) { c.things["west"].attrs["range"] = `"10.0.3.0/24"` }},
	} {
		t.Run(test.name, func(t *testing.T) {
			c := corner(t)
			west, western := *c.things["west"], *c.things["western"]
			test.change(c)
			c.write()
			outdated := c.propose(false)
			c.things["west"], c.things["western"] = &west, &western
			west.attrs = map[string]string{"range": `"10.0.2.0/24"`}
			c.machine("lamp", "west")
			c.enact(c.propose(false)) // somebody else
			_, err := enact.Enact(ctx, outdated, c.options("outdated", c.drv, c.store))
			refusedWith(t, err, "medina.subnet/west: medina.machine/lamp uses it, and is not part of the proposal; "+
				"propose again")
			s, err := c.ledger().Load(ctx)
			require.NoError(t, err)
			require.Empty(t, s.Open, "the locks are given back")
		})
	}
}

// TestReadsAcrossWards: what a run rests on in another ward is locked there for
// reading, in the order of the wards' names, and whoever would take it away
// meanwhile is told.
func TestReadsAcrossWards(t *testing.T) {
	ctx := context.Background()
	l := newLand(t, 4) // ward9 is read by those that sort before it
	for len(l.uses["ward8"]) == 0 {
		l.grow()
	}
	l.enact(l.propose(false, "ward9"))
	reader := l.propose(false, "ward8")
	scopes := reader.Scopes()
	require.NotEmpty(t, scopes["ward9"].Reads)
	require.Empty(t, scopes["ward9"].Writes)
	options := func(run string) enact.Options {
		return enact.Options{
			Run:    run,
			Clouds: enact.Clouds{Drivers: l.drivers(), Catalogs: l.catalogs(), Ledgers: l.ledgers()},
			Pace:   enact.Pace{Shows: -1},
		}
	}
	held, err := enact.TakeLocks(ctx, scopes, "", options("reader"))
	require.NoError(t, err)
	writer := l.propose(true, "ward9", "ward8") // only these two: nobody else reads them yet
	_, err = enact.Enact(ctx, writer, options("writer"))
	var locked *ledger.LockedError
	require.ErrorAs(t, err, &locked)
	require.Equal(t, "reader", locked.Holder.Run)
	require.False(t, held.Covers(writer.Scopes()))
	require.True(t, held.Covers(reader.Scopes()))
	o := options("not used")
	o.Locks = held
	r, err := enact.Enact(ctx, reader, o)
	require.NoError(t, err)
	require.Equal(t, "reader", r.Run)
	require.Equal(t, propose.Counts{Same: len(l.propose(false, "ward8").Actions)}, l.propose(false, "ward8").Counts)
	for w, one := range l.ledgers() {
		s, err := one.Load(ctx)
		require.NoError(t, err)
		require.Empty(t, s.Open, w)
	}
}
