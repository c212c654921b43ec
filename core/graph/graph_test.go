package graph

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// random makes a graph of n nodes whose edges lead from later to earlier
// nodes, in shuffled order, so that it has no cycle.
func random(r *rand.Rand, n int) (*Graph, []Edge) {
	rank := r.Perm(n)
	names := make([]string, n)
	for i := range names {
		names[i] = fmt.Sprintf("n%d", i)
	}
	var edges []Edge
	for range n * 2 {
		a, b := r.IntN(n), r.IntN(n)
		if rank[a] > rank[b] {
			edges = append(edges, Edge{From: names[a], To: names[b], Why: "x"})
		}
	}
	edges = append(edges, edges[:len(edges)/3]...) // doubles count once
	return New(names, edges), edges
}

func TestRandomGraphs(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	for range 300 {
		g, edges := random(r, 2+r.IntN(60))
		order, cycle := g.Order()
		require.Nil(t, cycle)
		require.Len(t, order, g.Len())
		at := make([]int, g.Len())
		for i, n := range order {
			at[n] = i
		}
		needs := map[[2]int32]bool{}
		for _, e := range edges {
			from, _ := g.Node(e.From)
			to, _ := g.Node(e.To)
			require.Less(t, at[to], at[from], "needs come first")
			needs[[2]int32{from, to}] = true
		}
		require.Equal(t, len(needs), g.Edges())
		n := int32(r.IntN(g.Len()))
		down, up := g.Down(n), g.Up(n)
		for m := int32(0); m < int32(g.Len()); m++ {
			require.Equal(t, reaches(g, n, m), down[m])
			require.Equal(t, reaches(g, m, n), up[m])
		}
		chain, total := g.Longest(nil)
		require.EqualValues(t, len(chain), total)
		for i := 1; i < len(chain); i++ {
			require.True(t, needs[[2]int32{chain[i], chain[i-1]}], "a chain follows edges")
		}
		require.EqualValues(t, longest(g), total)
	}
}

func reaches(g *Graph, from, to int32) bool {
	if from == to {
		return true
	}
	for _, m := range g.Needs(from) {
		if reaches(g, m, to) {
			return true
		}
	}
	return false
}

func longest(g *Graph) int {
	var deep func(n int32) int
	memo := map[int32]int{}
	deep = func(n int32) int {
		if d, ok := memo[n]; ok {
			return d
		}
		best := 0
		for _, m := range g.Needs(n) {
			best = max(best, deep(m))
		}
		memo[n] = best + 1
		return best + 1
	}
	best := 0
	for n := range g.Len() {
		best = max(best, deep(int32(n)))
	}
	return best
}

func TestCycles(t *testing.T) {
	edges := []Edge{{"a", "b", ""}, {"b", "c", ""}, {"c", "a", ""}, {"c", "b", ""}, {"d", "a", ""}, {"x", "y", ""},
		{"y", "x", ""}, {"z", "z", ""}, {"a", "gone", ""}}
	g := New([]string{"a", "b", "c", "d", "x", "y", "z"}, edges)
	order, cycle := g.Order()
	require.Equal(t, "z", g.Name(order[0]), "a loop to itself is not an edge")
	require.NotNil(t, cycle)
	cycles := g.Cycles()
	require.Len(t, cycles, 2)
	for _, c := range cycles {
		require.Equal(t, c[0], c[len(c)-1])
		for i := 1; i < len(c); i++ {
			from, _ := g.Node(c[i-1])
			to, _ := g.Node(c[i])
			require.Contains(t, g.Needs(from), to)
		}
	}
	empty := New(nil, nil)
	require.Empty(t, empty.Cycles())
	chain, _ := empty.Longest(nil)
	require.Empty(t, chain)
}

// BenchmarkOrder orders 100 000 nodes with 300 000 edges.
func BenchmarkOrder(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 1))
	names := make([]string, 100_000)
	var edges []Edge
	for i := range names {
		names[i] = fmt.Sprintf("shore:medina.machine/gauge-%d", i)
		for range min(3, i) {
			edges = append(edges, Edge{From: names[i], To: names[r.IntN(i)]})
		}
	}
	for b.Loop() {
		order, _ := New(names, edges).Order()
		require.Len(b, order, len(names))
	}
}
