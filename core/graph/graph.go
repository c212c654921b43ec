// Package graph is the dependency graph: which resource needs which. Nodes
// are interned to integers and edges kept in offset arrays, so a graph of
// 100 000 nodes costs a few megabytes and every question one pass.
package graph

import (
	"container/heap"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"
)

// Graph is immutable once built. An edge leads from a node to one it needs.
type Graph struct {
	names []string
	index map[string]int32

	needs csr // what a node needs
	users csr // what needs a node
	why   []string
}

// csr holds the neighbours of every node in one array: those of n are at
// list[start[n]:start[n+1]].
type csr struct{ start, list []int32 }

func (c csr) of(n int32) []int32 { return c.list[c.start[n]:c.start[n+1]] }

// sum turns counts, each kept one place up, into offsets.
func (c csr) sum() {
	for i := 1; i < len(c.start); i++ {
		c.start[i] += c.start[i-1]
	}
}

// Edge says that From needs To, and why: the attribute, or "after".
type Edge struct{ From, To, Why string }

// New builds a graph. Edges to or from names that are not among the nodes
// are left out; several edges between the same two count once, under the
// first one's reason. Loops from a node to itself are left out.
func New(names []string, edges []Edge) *Graph {
	g := numbered(names)
	from := csr{start: make([]int32, len(names)+1), list: make([]int32, len(edges))}
	for _, e := range edges {
		if n, ok := g.index[e.From]; ok {
			from.start[n+1]++
		}
	}
	from.sum()
	next := append([]int32(nil), from.start...)
	for i, e := range edges {
		if n, ok := g.index[e.From]; ok {
			from.list[next[n]] = int32(i)
			next[n]++
		}
	}
	g.connect(func(n int, add func(to, why string)) {
		for _, i := range from.of(int32(n)) {
			add(edges[i].To, edges[i].Why)
		}
	})
	return g
}

// NewFrom is New for edges that need not be gathered first: needs is asked for
// those of every node, by several goroutines at once.
func NewFrom(names []string, needs func(n int, add func(to, why string))) *Graph {
	g := numbered(names)
	g.connect(needs)
	return g
}

func numbered(names []string) *Graph {
	g := &Graph{names: names, index: make(map[string]int32, len(names))}
	for i, n := range names {
		g.index[n] = int32(i)
	}
	return g
}

// need is an edge of the node that is being connected.
type need struct {
	to  int32
	why string
}

// portion is the edges of some nodes that follow each other.
type portion struct {
	from, to int32
	ends     []int32 // of each node's edges, in list
	list     []int32
	why      []string
}

// portionSize is how many nodes are connected at a time.
const portionSize = 4096

// connect asks for what every node needs, on all the cores there are.
func (g *Graph) connect(needs func(n int, add func(to, why string))) {
	n := len(g.names)
	portions := make([]portion, (n+portionSize-1)/portionSize)
	var work errgroup.Group
	work.SetLimit(runtime.GOMAXPROCS(0))
	for i := range portions {
		p := &portions[i]
		p.from, p.to = int32(i*portionSize), int32(min(n, (i+1)*portionSize))
		work.Go(func() error {
			p.connect(g.index, needs)
			return nil
		})
	}
	_ = work.Wait() // it never fails
	edges := 0
	for i := range portions {
		edges += len(portions[i].list)
	}
	g.needs = csr{start: make([]int32, 1, n+1), list: make([]int32, 0, edges)}
	g.users.start, g.why = make([]int32, n+1), make([]string, 0, edges)
	for i := range portions {
		p, before := &portions[i], int32(len(g.needs.list))
		for _, end := range p.ends {
			g.needs.start = append(g.needs.start, before+end)
		}
		g.needs.list, g.why = append(g.needs.list, p.list...), append(g.why, p.why...)
	}
	for _, to := range g.needs.list {
		g.users.start[to+1]++
	}
	g.users.sum()
	g.users.list = make([]int32, len(g.needs.list))
	next := append([]int32(nil), g.users.start...)
	for from := int32(0); from < int32(n); from++ {
		for _, to := range g.needs.of(from) {
			g.users.list[next[to]] = from
			next[to]++
		}
	}
}

func (p *portion) connect(index map[string]int32, needs func(n int, add func(to, why string))) {
	var own []need
	at := p.from
	add := func(to, why string) {
		if m, ok := index[to]; ok && m != at {
			own = append(own, need{m, why})
		}
	}
	for ; at < p.to; at++ {
		own = own[:0]
		needs(int(at), add)
		slices.SortStableFunc(own, func(a, b need) int { return int(a.to) - int(b.to) })
		for i, e := range own {
			if i > 0 && e.to == own[i-1].to {
				continue
			}
			p.list, p.why = append(p.list, e.to), append(p.why, e.why)
		}
		p.ends = append(p.ends, int32(len(p.list)))
	}
}

// Len is the number of nodes.
func (g *Graph) Len() int { return len(g.names) }

// Edges is the number of edges.
func (g *Graph) Edges() int { return len(g.needs.list) }

// Name is the name of a node.
func (g *Graph) Name(n int32) string { return g.names[n] }

// Node finds a node by name.
func (g *Graph) Node(name string) (int32, bool) {
	n, ok := g.index[name]
	return n, ok
}

// Needs lists what n needs, in node order. The slice must not be changed.
func (g *Graph) Needs(n int32) []int32 { return g.needs.of(n) }

// Users lists what needs n, in node order. The slice must not be changed.
func (g *Graph) Users(n int32) []int32 { return g.users.of(n) }

// Why is the reason of the i-th of n's needs.
func (g *Graph) Why(n int32, i int) string { return g.why[int(g.needs.start[n])+i] }

// intHeap is a min-heap of nodes.
type intHeap []int32

func (h intHeap) Len() int           { return len(h) }
func (h intHeap) Less(i, j int) bool { return h[i] < h[j] }
func (h intHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *intHeap) Push(x any)        { *h = append(*h, x.(int32)) }
func (h *intHeap) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

// Order lists the nodes so that needs come before users; among those free to
// go, the lowest node comes first. It also lists one cycle when there is any,
// as names with the first repeated at the end; the order then lacks the
// nodes on and behind cycles.
func (g *Graph) Order() (order []int32, cycle []string) {
	left := make([]int32, g.Len())
	ready := &intHeap{}
	for n := range left {
		left[n] = int32(len(g.Needs(int32(n))))
		if left[n] == 0 {
			*ready = append(*ready, int32(n))
		}
	}
	heap.Init(ready)
	order = make([]int32, 0, g.Len())
	for ready.Len() > 0 {
		n := heap.Pop(ready).(int32)
		order = append(order, n)
		for _, u := range g.Users(n) {
			if left[u]--; left[u] == 0 {
				heap.Push(ready, u)
			}
		}
	}
	if len(order) < g.Len() {
		cycle = g.cycle(left)
	}
	return order, cycle
}

// Cycles lists the cycles that a reader should break: one for every group of
// nodes that need each other, each as names with the first repeated at the
// end, the shortest way round through the group's lowest node.
func (g *Graph) Cycles() [][]string {
	var out [][]string
	gone := make([]bool, g.Len())
	for {
		left := make([]int32, g.Len())
		var queue []int32
		for n := range left {
			for _, m := range g.Needs(int32(n)) {
				if !gone[m] {
					left[n]++
				}
			}
			if gone[n] {
				left[n] = 0
			} else if left[n] == 0 {
				queue = append(queue, int32(n))
			}
		}
		for len(queue) > 0 {
			n := queue[0]
			queue = queue[1:]
			for _, u := range g.Users(n) {
				if gone[u] {
					continue
				}
				if left[u]--; left[u] == 0 {
					queue = append(queue, u)
				}
			}
		}
		c := g.cycle(left)
		if c == nil {
			return out
		}
		out = append(out, c)
		for _, name := range c {
			gone[g.index[name]] = true
		}
	}
}

// cycle finds a shortest cycle among the nodes with needs left.
func (g *Graph) cycle(left []int32) []string {
	// walking along needs that are left always ends on a cycle
	start := int32(-1)
	for n := range left {
		if left[n] > 0 {
			start = int32(n)
			break
		}
	}
	if start < 0 {
		return nil
	}
	seen := map[int32]bool{}
	for !seen[start] {
		seen[start] = true
		for _, m := range g.Needs(start) {
			if left[m] > 0 {
				start = m
				break
			}
		}
	}
	// breadth first from start back to start
	from := map[int32]int32{}
	queue := []int32{start}
	for len(queue) > 0 {
		n := queue[0]
		queue = queue[1:]
		for _, m := range g.Needs(n) {
			if left[m] <= 0 {
				continue
			}
			if m == start {
				path := []string{g.names[start]}
				for k := n; k != start; k = from[k] {
					path = append(path, g.names[k])
				}
				path = append(path, g.names[start])
				for i, j := 0, len(path)-1; i < j; i, j = i+1, j-1 {
					path[i], path[j] = path[j], path[i]
				}
				return path
			}
			if _, ok := from[m]; !ok {
				from[m] = n
				queue = append(queue, m)
			}
		}
	}
	return nil
}

// Down is the set of nodes that the given ones need, directly or through
// others, themselves included.
func (g *Graph) Down(nodes ...int32) []bool { return g.closure(g.needs, nodes) }

// Up is the set of nodes that need the given ones, directly or through
// others, themselves included.
func (g *Graph) Up(nodes ...int32) []bool { return g.closure(g.users, nodes) }

func (g *Graph) closure(c csr, nodes []int32) []bool {
	in := make([]bool, g.Len())
	var todo []int32
	for _, n := range nodes {
		if !in[n] {
			in[n] = true
			todo = append(todo, n)
		}
	}
	for len(todo) > 0 {
		n := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		for _, m := range c.of(n) {
			if !in[m] {
				in[m] = true
				todo = append(todo, m)
			}
		}
	}
	return in
}

// Longest finds the chain of needs with the greatest total weight: its nodes
// from the first needed to the last user, and the total. The graph must have
// no cycle. A nil weight counts every node as 1.
func (g *Graph) Longest(weight func(int32) float64) ([]int32, float64) {
	rest := g.Remaining(weight)
	best := int32(-1)
	for n := range rest {
		if best < 0 || rest[n] > rest[best] {
			best = int32(n)
		}
	}
	if best < 0 {
		return nil, 0
	}
	total := rest[best]
	var chain []int32
	for n := best; n >= 0; {
		chain = append(chain, n)
		next := int32(-1)
		for _, u := range g.Users(n) {
			if next < 0 || rest[u] > rest[next] {
				next = u
			}
		}
		n = next
	}
	return chain, total
}

// Remaining is, for every node, the greatest total weight of a chain that
// begins with it and goes on through its users.
func (g *Graph) Remaining(weight func(int32) float64) []float64 {
	order, _ := g.Order()
	rest := make([]float64, g.Len())
	for i := len(order) - 1; i >= 0; i-- {
		n := order[i]
		var most float64
		for _, u := range g.Users(n) {
			most = max(most, rest[u])
		}
		if weight == nil {
			rest[n] = most + 1
		} else {
			rest[n] = most + weight(n)
		}
	}
	return rest
}
