package why_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/why"
)

// TestFind: what was typed is a resource or a value of one, in the one ward that has it. Names
// may hold dots.
func TestFind(t *testing.T) {
	ward := func(name string, addresses ...string) *declare.Ward {
		w := &declare.Ward{Name: name}
		for _, a := range addresses {
			w.Resources = append(w.Resources, &declare.Resource{Ward: name, Address: a})
		}
		return w
	}
	d := declare.FromWards("trial", ward("shore", "sea.lamp/a", "sea.lamp/a.b", "west/sea.lamp/a"),
		ward("isle", "sea.lamp/a", "sea.net/coast"))
	states := map[string]*ledger.State{"shore": ledger.NewState(&ledger.Record{Address: "sea.lamp/gone",
		Type: "sea.lamp"}), "isle": ledger.NewState()}
	for _, c := range []struct{ typed, ward, address, path, says string }{
		{typed: "sea.net/coast", ward: "isle", address: "sea.net/coast"},
		{typed: "sea.net/coast.range", ward: "isle", address: "sea.net/coast", path: "range"},
		{typed: "shore:sea.lamp/a.tags.owner", ward: "shore", address: "sea.lamp/a", path: "tags.owner"},
		{typed: "sea.lamp/a.b", ward: "shore", address: "sea.lamp/a.b"},
		{typed: "sea.lamp/a.b.rules[0].from", ward: "shore", address: "sea.lamp/a.b", path: "rules[0].from"},
		{typed: "west/sea.lamp/a.power", ward: "shore", address: "west/sea.lamp/a", path: "power"},
		{typed: "sea.lamp/gone", ward: "shore", address: "sea.lamp/gone"},
		{typed: "sea.lamp/a", says: "sea.lamp/a is the address of several resources"},
		{typed: "sea.net/cost", says: "nothing that is declared or recorded has the address sea.net/cost"},
		{typed: "isle:sea.lamp/gone", says: "nothing that is declared or recorded"},
		{typed: "sea.net/coast.rules[x]", says: "is not an index"},
	} {
		t.Run(c.typed, func(t *testing.T) {
			at, err := why.Find(c.typed, d, states)
			if c.says != "" {
				var usage *problem.UsageError
				require.ErrorAs(t, err, &usage)
				require.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			require.Equal(t, []string{c.ward, c.address, c.path}, []string{at.Ward, at.Address, at.Path.String()})
		})
	}
}
