package layout

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// with is an input with one node more, at the end, that needs one or two of the others.
func with(in *Input, rng *rand.Rand) *Input {
	out := &Input{Containers: in.Containers, Nodes: slices.Clone(in.Nodes), Needs: slices.Clone(in.Needs)}
	n := int32(len(out.Nodes))
	near := rng.IntN(len(in.Nodes))
	out.Nodes = append(out.Nodes, Node{Label: "added", Note: "medina.machine", Kind: "added", Parent: in.Nodes[near].Parent})
	out.Needs = append(out.Needs, Need{int32(near), n})
	return out
}

// TestStable: one resource more moves few of the others by more than their own size.
func TestStable(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	var shares []float64
	for range 100 {
		in := random(rng, 20+rng.IntN(200))
		before, after := Draw(in), Draw(with(in, rng))
		moved := 0
		for i, r := range before.Nodes {
			o := after.Nodes[i]
			if math.Abs(o.X-r.X) > r.W || math.Abs(o.Y-r.Y) > r.W {
				moved++
			}
		}
		shares = append(shares, float64(moved)/float64(len(before.Nodes)))
	}
	slices.Sort(shares)
	mean := 0.0
	for _, s := range shares {
		mean += s / float64(len(shares))
	}
	t.Logf("moved: %.1f %% on average, %.1f %% in the middle, %.1f %% in the ninetieth, %.1f %% at worst", 100*mean, 100*shares[50], 100*shares[90], 100*shares[99])
	require.Less(t, mean, 0.1)
}
