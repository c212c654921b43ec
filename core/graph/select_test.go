package graph_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/graph"
	"kasbah/core/problem"
)

func TestSelect(t *testing.T) {
	g := graph.New([]string{"shore:sea.net/coast", "shore:sea.quay/west", "shore:sea.lamp/one", "isle:sea.lamp/one"},
		[]graph.Edge{
			{From: "shore:sea.quay/west", To: "shore:sea.net/coast"}, {From: "shore:sea.lamp/one",
				To: "shore:sea.quay/west"},
			{From: "isle:sea.lamp/one", To: "shore:sea.net/coast"},
		})
	for _, c := range []struct {
		name     string
		from, to []string
		in       []bool
		says     string
	}{
		{name: "all", in: []bool{true, true, true, true}},
		{name: "what needs the quay", from: []string{"sea.quay/west"}, in: []bool{false, true, true, false}},
		{name: "what the quay needs", to: []string{"sea.quay/west"}, in: []bool{true, true, false, false}},
		{name: "between", from: []string{"sea.net/coast"}, to: []string{"shore:sea.lamp/one"}, in: []bool{true, true,
			true, false}},
		{name: "unknown", from: []string{"sea.quay/wst"}, says: "no resource has the address sea.quay/wst"},
		{name: "in two wards", to: []string{"sea.lamp/one"}, says: "sea.lamp/one is in several wards; write one of " +
			"shore:sea.lamp/one, isle:sea.lamp/one"},
	} {
		t.Run(c.name, func(t *testing.T) {
			in, err := graph.Select(g, c.from, c.to)
			if c.says != "" {
				var usage *problem.UsageError
				require.ErrorAs(t, err, &usage)
				require.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.in, in)
		})
	}
}
