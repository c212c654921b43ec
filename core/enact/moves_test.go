package enact_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// counting is a coast on which a bucket says how many addresses of a subnet are free, and
// that is published.
func counting(t *testing.T, moves bool) *coast {
	c := newCoast(t, 1)
	for _, typ := range c.catalog.Types {
		for _, a := range typ.Attributes {
			a.Moves = a.Moves && moves
		}
	}
	put := c.put
	put("network", "net", "", "range", `"10.0.0.0/16"`)
	put("subnet", "quay", "net", "range", `"10.0.1.0/24"`)
	put("machine", "gauge", "quay", "size", `"small"`, "image", `"stone-1"`)
	put("bucket", "sign", "", "tags", `{"free": "%s" % quay.free}`)
	c.things["sign"].on = "quay"
	c.tail = `publish("free", quay.free)`
	c.write()
	return c
}

func (c *coast) published() any {
	s, err := c.ledger().Load(context.Background())
	require.NoError(c.t, err)
	return s.Published["free"]
}

func (c *coast) sign() any {
	for _, l := range c.live() {
		if tags, ok := l.Attributes["tags"].(map[string]any); ok && tags["free"] != nil {
			return tags["free"]
		}
	}
	return nil
}

// TestMovesAreWaitedFor: an output that its schema marks as one that moves is pending
// while something that refers to its owner changes. One run leaves nothing to do.
func TestMovesAreWaitedFor(t *testing.T) {
	c := counting(t, true)
	c.enact(c.propose(false))
	require.Zero(t, c.propose(false).Counts.Changing(), "one run is enough")
	require.Equal(t, "252", c.sign())
	require.EqualValues(t, 252, c.published())

	c.machine("second", "quay")
	p := c.propose(false)
	require.Equal(t, propose.Counts{New: 1, Edit: 1, Same: 3}, p.Counts)
	for _, a := range p.Actions {
		if a.Kind == propose.Edit {
			require.Equal(t, "if free of medina.subnet/quay moves", a.Because)
			require.Contains(t, a.Changes[0].From, "medina.subnet/quay free")
		}
	}
	c.enact(p)
	require.Equal(t, "251", c.sign())
	require.EqualValues(t, 251, c.published())
	require.Zero(t, c.propose(false).Counts.Changing())

	// one machine for another: free stays, and the edit is none after all
	delete(c.things, "second")
	c.machine("third", "quay")
	c.enact(c.propose(false))
	require.Equal(t, "251", c.sign())
	require.Zero(t, c.propose(false).Counts.Changing())

	delete(c.things, "third")
	c.write()
	c.enact(c.propose(false))
	require.Equal(t, "252", c.sign())
	require.EqualValues(t, 252, c.published())
	require.Zero(t, c.propose(false).Counts.Changing())
}

// TestUnmarkedMovesConverge: of one that is not marked the second run leaves nothing to
// do, and no proposal is refused for it.
func TestUnmarkedMovesConverge(t *testing.T) {
	c := counting(t, false)
	c.enact(c.propose(false))
	c.enact(c.propose(false))
	require.Zero(t, c.propose(false).Counts.Changing())
	require.Equal(t, "252", c.sign())
	c.machine("second", "quay")
	c.enact(c.propose(false))
	p := c.propose(false)
	require.Equal(t, propose.Counts{Edit: 1, Same: 4}, p.Counts)
	for _, a := range p.Actions {
		if a.Kind == propose.Edit {
			require.Contains(t, a.Because, "free of medina.subnet/quay moved from 252")
		}
	}
	c.enact(p)
	require.Zero(t, c.propose(false).Counts.Changing())
	require.Equal(t, "251", c.sign())
	require.EqualValues(t, 251, c.published())
}

// TestOthersMove: what somebody else's work moves is an edit of who uses it, and the run
// takes it into its record before it judges; a kept proposal as well.
func TestOthersMove(t *testing.T) {
	for _, moves := range []bool{true, false} {
		ctx := context.Background()
		c := counting(t, moves)
		c.enact(c.propose(false))
		c.enact(c.propose(false))
		was := c.published()
		var subnet string
		for id, l := range c.live() {
			if l.Attributes["free"] != nil {
				subnet = id
			}
		}
		_, err := c.drv.Create(ctx, "machine", value.Map{"subnet": subnet, "size": "small", "image": "stone-1",
			"name": "by-hand"}, "")
		require.NoError(t, err)
		p := c.propose(false)
		require.Equal(t, propose.Counts{Edit: 1, Same: 3}, p.Counts)
		require.EqualValues(t, 252, was)
		o := c.options("kept", c.drv, c.store)
		o.JudgeLive = true
		r, err := enact.Enact(ctx, p, o)
		require.NoError(t, err)
		require.Empty(t, r.Failures)
		require.Equal(t, "251", c.sign())
		require.EqualValues(t, 251, c.published())
		require.Zero(t, c.propose(false).Counts.Changing())
		s, err := c.ledger().Load(ctx)
		require.NoError(t, err)
		rec, err := s.Records["medina.subnet/quay"].Record()
		require.NoError(t, err)
		require.EqualValues(t, 251, rec.Live["free"], "the record has what is live")
		v, err := c.ledger().Verify(ctx)
		require.NoError(t, err)
		require.Empty(t, v.Notes)
	}
}

// TestSeenIsNoWrite: a run may note what it has seen of what it only reads, and nothing
// else.
func TestSeenIsNoWrite(t *testing.T) {
	ctx := context.Background()
	c := counting(t, true)
	c.enact(c.propose(false))
	l := c.ledger()
	r, err := l.Begin(ctx, ledger.BeginOptions{ID: "reader", Scope: ledger.NewScope([]string{"medina.bucket/sign"},
		[]string{"medina.subnet/quay"})})
	require.NoError(t, err)
	rec, err := r.Record("medina.subnet/quay")
	require.NoError(t, err)
	seen := *rec
	seen.Live = value.Attributes(value.CloneMap(value.Map(rec.Live)))
	seen.Live["free"] = int64(1)
	require.NoError(t, r.Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: ledger.NoteSeen,
		Record: &seen}}))
	other := seen
	other.ID = "net-9"
	require.ErrorContains(t, r.Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: ledger.NoteSeen,
		Record: &other}}), "has not locked medina.subnet/quay")
}
