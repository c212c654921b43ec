package chart

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// estate declares random resources in some wards and instances, and records them.
func estate(rng *rand.Rand) (*declare.Declared, map[string]*ledger.State) {
	typ := &schema.Type{Name: "lamp"}
	var wards []*declare.Ward
	states := map[string]*ledger.State{}
	var all []string
	for w := range 1 + rng.IntN(3) {
		ward := &declare.Ward{Name: fmt.Sprint("shore-", 9-w)}
		var records []*ledger.Record
		for i := range rng.IntN(20) {
			r := &declare.Resource{Ward: ward.Name, Driver: "sea", Type: typ, Name: fmt.Sprint("lamp-", 20-i)}
			r.SetInputs(value.Map{"height": int64(i)})
			r.Address = "sea.lamp/" + r.Name
			if k := rng.IntN(6); k < 3 {
				r.Within = []*declare.Instance{{Name: fmt.Sprint("light-", k), Kit: "station"}}
				r.Address = r.Within[0].Name + "/" + r.Address
			}
			var needs []string
			for range rng.IntN(3) {
				if len(all) > 0 {
					need := all[rng.IntN(len(all))]
					r.Needs = append(r.Needs, declare.Need{Address: need, Why: "height"})
					needs = append(needs, need)
				}
			}
			all = append(all, r.Full())
			ward.Resources = append(ward.Resources, r)
			records = append(records, &ledger.Record{Address: r.Address, Type: "sea.lamp", ID: r.Name, Needs: needs, Inputs: value.Attributes(r.Inputs())})
		}
		wards, states[ward.Name] = append(wards, ward), ledger.NewState(records...)
	}
	return declare.FromWards("trial", wards...), states
}

// TestKeepsItsShape: what is declared, what is recorded of it, and a proposal that changes nothing of it have one
// drawing, and every need is there once.
func TestKeepsItsShape(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 23))
	for range 100 {
		d, states := estate(rng)
		p := &propose.Proposal{}
		for _, r := range d.Resources {
			p.Actions = append(p.Actions, &propose.Action{Ward: r.Ward, Address: r.Address, Type: "sea.lamp", Kind: propose.Same, Needs: r.NeedAddresses()})
		}
		rng.Shuffle(len(p.Actions), func(i, j int) { p.Actions[i], p.Actions[j] = p.Actions[j], p.Actions[i] })
		from := Sources{Estate: "coast", Declared: d, States: states, Proposal: p, Facts: true}
		declared, err := New(Declared, from)
		require.NoError(t, err)
		was := declared.Draw()
		for _, at := range []At{Recorded, Proposed} {
			c, err := New(at, from)
			require.NoError(t, err)
			require.Equal(t, was.Layout.Nodes, c.Draw().Layout.Nodes, at)
			require.Len(t, c.Nodes, len(d.Resources))
			for i, n := range c.Nodes {
				require.Equal(t, declared.Nodes[i].Full(), n.Full())
			}
		}
		drawn := 0
		for _, r := range was.Layout.Roads {
			drawn += len(r.Needs)
		}
		require.LessOrEqual(t, drawn, len(declared.Needs))

		in := make([]bool, len(declared.Nodes))
		var kept []string
		for i := range in {
			if in[i] = rng.IntN(2) == 0; in[i] {
				kept = append(kept, declared.Nodes[i].Full())
			}
		}
		g := declared.Graph()
		declared.Keep(in)
		require.Len(t, declared.Nodes, len(kept))
		for _, n := range declared.Needs {
			user, _ := g.Node(declared.Nodes[n.To].Full())
			need, _ := g.Node(declared.Nodes[n.From].Full())
			require.Contains(t, g.Needs(user), need)
		}
	}
}

// TestWithin: instances are read out of addresses, whatever is in names.
func TestWithin(t *testing.T) {
	for address, want := range map[string]string{
		"medina.machine/gauge":             "gauge",
		"west/medina.machine/gauge":        "west: gauge",
		"west/deck/medina.machine/a/b.c/d": "west deck: a/b.c/d",
		"input/lights":                     "lights",
	} {
		in, name := within(address, "station")
		said := name
		if len(in) > 0 && address != "input/lights" {
			var names []string
			for _, one := range in {
				names = append(names, one.Name)
			}
			said = strings.Join(names, " ") + ": " + name
			require.Equal(t, "station", in[0].Kit)
		}
		require.Equal(t, want, said)
	}
}

// TestShown: a secret is its name at most, and a long value is cut between letters.
func TestShown(t *testing.T) {
	c := newChart("coast", "trial", Declared)
	say := func(v any, secret bool) string { return c.Texts[c.shown("shore", v, secret)] }
	word := &value.Pending{Ref: &value.Ref{Address: value.SecretAddress("word"), Secret: true}}
	require.Equal(t, "(secret word)", say(word, false))
	require.Equal(t, "(secret)", say("hunter2", true))
	require.Equal(t, "(secret)", say(map[string]any{"a": []any{"hunter2"}}, true))
	long := say(strings.Repeat("灯", 5000), false)
	require.True(t, utf8.ValidString(long))
	require.Less(t, len(long), longest+40)
	require.Contains(t, long, "(15000 bytes)")
	require.Equal(t, c.shown("shore", "x", false), c.shown("shore", "x", false), "each text is kept once")

	for v, want := range map[Value]string{
		{Path: 1}:                             "[1]",
		{Path: 1, Recorded: 7}:                "[1,0,7]",
		{Path: 1, Proposed: 2}:                "[1,0,0,0,2]",
		{Path: 3, Declared: 1, Differs: true}: "[3,1,0,0,0,1]",
	} {
		body, err := json.Marshal(v)
		require.NoError(t, err)
		require.Equal(t, want, string(body))
	}
}
