package propose

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/ledger"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// lamp is a type with one of each sort of attribute.
func lamp() *schema.Type {
	t := &schema.Type{Name: "lamp", ID: "id", Tags: true, Attributes: []*schema.Attribute{
		{Name: "name", Kind: schema.Text},
		{Name: "size", Kind: schema.Text},
		{Name: "kind", Kind: schema.Text, Fixed: true},
		{Name: "level", Kind: schema.Int, Default: int64(3), HasDefault: true},
		{Name: "tags", Kind: schema.MapOf, Elem: &schema.Attribute{Kind: schema.Text}},
		{Name: "list", Kind: schema.List, Elem: &schema.Attribute{Kind: schema.Any}},
		{Name: "open", Kind: schema.Bool, Security: true},
		{Name: "id", Kind: schema.Text, Output: true},
	}}
	t.Index()
	return t
}

func TestCompare(t *testing.T) {
	type m = value.Map
	pending := value.NewRef("shore:a.b/c", value.Key("id"))
	for _, c := range []struct {
		name string
		c    struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}
	}{
		{"nothing", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"size": "s"}, recorded: m{"size": "s"}, live: m{"size": "s", "id": "1"},
			inputs: m{"size": "s"}}},
		{"declared differs", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"size": "l"}, recorded: m{"size": "s"}, live: m{"size": "s"},
			changes: []string{"size: s -> l"}, inputs: m{"size": "l"}}},
		{"edited by hand", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"size": "s"}, recorded: m{"size": "s"}, live: m{"size": "l"},
			changes: []string{"size: l -> s by hand"}, inputs: m{"size": "s"}}},
		{"both", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"size": "m"}, recorded: m{"size": "s"}, live: m{"size": "l"},
			changes: []string{"size: l -> m by hand"}, inputs: m{"size": "m"}}},
		{"hand did the same", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"size": "l"}, recorded: m{"size": "s"}, live: m{"size": "l"},
			inputs: m{"size": "l"}}},
		{"fixed", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"kind": "b"}, recorded: m{"kind": "a"}, live: m{"kind": "a"},
			changes: []string{"kind: a -> b fixed"}, inputs: m{"kind": "b"}}},
		{"back to default", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{}, recorded: m{"level": int64(5)}, live: m{"level": int64(5)},
			changes: []string{"level: 5 -> 3"}, inputs: m{}}},
		{"at its default", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{}, recorded: m{"level": int64(3)}, live: m{"level": int64(3)}, inputs: m{}}},
		{"no default", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{}, recorded: m{"size": "s"}, live: m{"size": "s"}, left: []string{"size"},
			inputs: m{}}},
		{"name made", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{}, recorded: m{"name": "made"}, live: m{"name": "made"},
			inputs: m{"name": "made"}}},
		{"name given", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"name": "new"}, recorded: m{"name": "made"}, live: m{"name": "made"},
			changes: []string{"name: made -> new"}, inputs: m{"name": "new"}}},
		{"never declared", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{}, recorded: m{}, live: m{"size": "cloud's"}, inputs: m{}}},
		{"map by key", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"tags": m{"a": "1", "c": "3"}}, recorded: m{"tags": m{"a": "1"}},
			live: m{"tags": m{"a": "1", "b": "2"}}, changes: []string{`tags.b: "2" -> none by hand`,
				`tags.c: none -> "3"`}, inputs: m{"tags": m{"a": "1", "c": "3"}}}},
		{"empty is nothing", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"tags": m{}}, recorded: m{"tags": m{}}, live: m{}, inputs: m{"tags": m{}}}},
		{"left in part", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"tags": m{"a": "1"}}, recorded: m{"tags": m{"a": "1"}},
			live: m{"tags": m{"a": "1", "seen": "x"}}, leave: "tags.seen",
			inputs: m{"tags": m{"a": "1", "seen": "x"}}}},
		{"left and differing", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"tags": m{"a": "1"}}, recorded: m{"tags": m{"a": "1"}},
			live: m{"tags": m{"a": "2", "seen": "x"}}, leave: "tags.seen",
			changes: []string{`tags.a: "2" -> "1" by hand`}, inputs: m{"tags": m{"a": "1", "seen": "x"}}}},
		{"left whole", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"size": "s"}, recorded: m{"size": "s"}, live: m{"size": "l"}, leave: "size",
			inputs: m{"size": "s"}}},
		{"pending", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"size": pending}, recorded: m{"size": "s"}, live: m{"size": "s"},
			changes: []string{"size: s -> from a.b/c id from a.b/c id"}, inputs: m{"size": pending}}},
		{"list by item", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"list": []any{"a", m{"x": "1"}, pending}},
			recorded: m{"list": []any{"a", m{"x": "2"}, "c"}}, live: m{"list": []any{"a", m{"x": "2"}, "c"}},
			changes: []string{`list[1].x: "2" -> "1"`, "list[2]: c -> from a.b/c id from a.b/c id"},
			inputs:  m{"list": []any{"a", m{"x": "1"}, pending}}}},
		{"list grows", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"list": []any{"a", "b", "c"}}, recorded: m{"list": []any{"a"}},
			live: m{"list": []any{"a"}}, changes: []string{"list[1]: none -> b", "list[2]: none -> c"},
			inputs: m{"list": []any{"a", "b", "c"}}}},
		{"list shrinks", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"list": []any{"a"}}, recorded: m{"list": []any{"a", "b"}},
			live: m{"list": []any{"a", "b"}}, changes: []string{"list[1]: b -> none"}, inputs: m{"list": []any{"a"}}}},
		{"list shifts", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"list": []any{"x", "a", "b"}}, recorded: m{"list": []any{"a", "b"}},
			live: m{"list": []any{"a", "b"}}, changes: []string{`list: ["a", "b"] -> ["x", "a", "b"]`},
			inputs: m{"list": []any{"x", "a", "b"}}}},
		{"list emptied", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"list": []any{}}, recorded: m{"list": []any{"a"}},
			live: m{"list": []any{"a"}}, changes: []string{`list: ["a"] -> []`}, inputs: m{"list": []any{}}}},
		{"numbers of two sort", struct {
			declared, recorded, live m
			leave                    string
			changes                  []string
			left                     []string
			inputs                   m
		}{declared: m{"level": int64(3)}, recorded: m{"level": 3.0}, live: m{"level": 3.0},
			inputs: m{"level": int64(3)}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			comp := comparison{ward: "shore", typ: lamp(), declared: c.c.declared, recorded: c.c.recorded,
				live: c.c.live}
			if c.c.leave != "" {
				p, err := value.ParsePath(c.c.leave)
				require.NoError(t, err)
				comp.leave = []value.Path{p}
			}
			changes, inputs, left := comp.compare()
			var said []string
			for _, ch := range changes {
				s := fmt.Sprintf("%s: %s -> %s", ch.Path, value.Plain(ch.Was.V), value.Plain(ch.WillBe.V))
				if ch.From != "" {
					s += " from " + ch.From
				}
				if ch.Fixed {
					s += " fixed"
				}
				if ch.ByHand {
					s += " by hand"
				}
				said = append(said, s)
			}
			require.Equal(t, c.c.changes, said, c.name)
			require.Equal(t, c.c.left, left, c.name)
			require.Equal(t, c.c.inputs, inputs, c.name)
		})
	}
}

// TestDropsAndRaze: what is recorded and not declared is dropped; what holds
// data, is guarded, or is gone already is told.
func TestDropsAndRaze(t *testing.T) {
	typ := lamp()
	typ.HoldsData = true
	rec := func(name string, change func(*ledger.Record)) *ledger.Record {
		r := &ledger.Record{Address: "sea.lamp/" + name, Type: "sea.lamp", ID: "id-" + name,
			Inputs: value.Attributes{"size": "s"}, Live: value.Attributes{"size": "s"}}
		if change != nil {
			change(r)
		}
		return r
	}
	s := ledger.NewState(
		rec("a", nil),
		rec("b", func(r *ledger.Record) { r.Needs = []string{"shore:sea.lamp/a"} }),
		rec("gone", nil),
		rec("guarded", func(r *ledger.Record) { r.Care.Guard = true }),
		rec("half", func(r *ledger.Record) {
			r.ID = ""
			r.Leftovers = []ledger.Leftover{{ID: "old",
				Type: "sea.lamp"}}
		}),
	)
	live := Live{"sea.lamp": {"id-a": {ID: "id-a", Tag: "t1", attributes: value.Map{"size": "l"}}, "id-b": {ID: "id-b"},
		"id-guarded": {ID: "id-guarded"}, "old": {ID: "old", Tag: "t9"}}}
	o := Options{Estate: "e", Env: "trial", Choice: Choice{Wards: []string{"shore"}},
		States:   map[string]*ledger.State{"shore": s},
		Catalogs: map[string]*schema.Catalog{"sea": {Types: map[string]*schema.Type{"lamp": typ}}}, Live: live}
	p, err := Propose(context.Background(), o)
	require.NoError(t, err)
	require.True(t, p.Raze)
	require.Equal(t, Counts{Drop: 5}, p.Counts)
	require.Equal(t, []string{"shore:sea.lamp/a", "shore:sea.lamp/b", "shore:sea.lamp/guarded", "shore:sea.lamp/half"},
		p.Data, "what is gone has nothing to lose")
	require.Len(t, p.Blocked, 1)
	require.Equal(t, "sea.lamp/guarded", p.Blocked[0].Address)
	require.Equal(t, []string{"shore:sea.lamp/a", "shore:sea.lamp/b"}, p.Forecast.Chain)
	by := map[string]*Action{}
	for _, a := range p.Actions {
		by[a.Address] = a
	}
	require.Equal(t, "gone from the cloud already", by["sea.lamp/gone"].Because)
	require.Equal(t, "t1", by["sea.lamp/a"].Plan.Seen.Tag, "the tag is the live one")
	require.Equal(t, "t9", by["sea.lamp/half"].Plan.Seen.Leftovers[0].Tag)
	require.NoError(t, p.Check())
	require.Equal(t, []string{"sea.lamp has no idempotency keys"}, p.NotAssured)

	o.Only = []string{"sea.lamp/b"}
	p, err = Propose(context.Background(), o)
	require.NoError(t, err)
	require.Equal(t, 2, p.Counts.Drop, "what matches and what it needs")
	require.Equal(t, 3, p.LeftOut)
	o.Only = []string{"sea.lamp/bb"}
	_, err = Propose(context.Background(), o)
	require.ErrorContains(t, err, `did you mean "sea.lamp/b"?`)

	o.Only = nil
	o.Catalogs = map[string]*schema.Catalog{}
	_, err = Propose(context.Background(), o)
	require.ErrorContains(t, err, `kasbah.toml has no driver "sea"`)
	o.Catalogs = map[string]*schema.Catalog{"sea": {Types: map[string]*schema.Type{}}}
	_, err = Propose(context.Background(), o)
	require.ErrorContains(t, err, "no longer has the type lamp")
}

func TestPattern(t *testing.T) {
	for _, c := range []struct {
		pattern string
		matches map[string]bool
	}{
		{"medina.subnet/quay", map[string]bool{"medina.subnet/quay": true, "medina.subnet/quay-2": false,
			"xmedina.subnet/quay": false}},
		{"medina.subnet/*", map[string]bool{"medina.subnet/quay": true, "medina.subnet/a/b": false,
			"medina.machine/a": false}},
		{"**", map[string]bool{"medina.subnet/a/b": true, "": true}},
		{"*/quay", map[string]bool{"medina.subnet/quay": true, "a/b/quay": false}},
		{"**/gate", map[string]bool{"west/inner/medina.machine/gate": true}},
		{"a.b/c+(d", map[string]bool{"a.b/c+(d": true, "aXb/c+(d": false}},
		{"shore:medina.*/q\xff*", map[string]bool{"shore:medina.subnet/q?x": true}},
	} {
		t.Run(c.pattern, func(t *testing.T) {
			for address, want := range c.matches {
				require.Equal(t, want, Pattern(c.pattern)(address), "%s on %s", c.pattern, address)
			}
		})
	}
}

// TestCheck: files that were cut or edited by mistake are noticed.
func TestCheck(t *testing.T) {
	good := func() *Proposal {
		return &Proposal{Wards: []WardAt{{Ward: "shore"}}, Counts: Counts{New: 1, Swap: 1, Same: 1}, Actions: []*Action{
			{Ward: "shore", Address: "a.b/c", Kind: New, Plan: &Plan{}},
			{Ward: "shore", Address: "a.b/d", Kind: Swap, Plan: &Plan{Order: "create-first", Seen: &Seen{}}},
			{Ward: "shore", Address: "a.b/e", Kind: Same},
		}}
	}
	require.NoError(t, good().Check())
	for _, c := range []struct {
		words string
		spoil func(*Proposal)
	}{
		{"counts do not add up", func(p *Proposal) { p.Actions = p.Actions[:2] }},
		{"is incomplete, or listed twice", func(p *Proposal) { p.Actions[1].Address = "a.b/c" }},
		{"action 3 is incomplete", func(p *Proposal) { p.Actions[2] = nil }},
		{"action 1 is incomplete", func(p *Proposal) { p.Actions[0].Ward = "other" }},
		{"does not say how", func(p *Proposal) { p.Actions[0].Plan = nil }},
		{"does not say what was recorded", func(p *Proposal) { p.Actions[1].Plan.Seen = nil }},
		{"in which order", func(p *Proposal) { p.Actions[1].Plan.Order = "" }},
		{"a.b/e: the proposal does not", func(p *Proposal) { p.Actions[2].Plan = &Plan{RecordOnly: true} }},
		{`cannot carry out "raise"`, func(p *Proposal) { p.Actions[0].Kind = "raise" }},
		{"does not say what it adopts", func(p *Proposal) { p.Actions[1].Kind = Adopt }},
	} {
		t.Run(c.words, func(t *testing.T) {
			p := good()
			c.spoil(p)
			require.ErrorContains(t, p.Check(), c.words)
		})
	}
}
