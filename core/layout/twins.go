package layout

import (
	"hash/maphash"
	"math"
	"slices"
)

// fewestTwins is how many twins become a block.
const fewestTwins = 4

// packed is how many nodes of a container without needs among them are packed as grids by kind.
const packed = 2000

// twins groups the nodes of each container: those of one kind with the same needs and the same users are one group,
// if there are enough of them. Groups come in the order of their first nodes.
func (w *work) twins() [][][]int32 {
	seed := maphash.MakeSeed()
	// Sums of hashes do not depend on the order of needs, nor on the seed: only equality is asked for.
	sums := make([][2]uint64, len(w.in.Nodes))
	mix := func(n int32, side byte) uint64 {
		return maphash.Bytes(seed, []byte{side, byte(n), byte(n >> 8), byte(n >> 16), byte(n >> 24)})
	}
	linked := make([]bool, len(w.in.Nodes))
	for _, n := range w.in.Needs {
		sums[n.To][0] += mix(n.From, 0)
		sums[n.From][1] += mix(n.To, 1)
		linked[n.From], linked[n.To] = true, true
	}
	type key struct {
		kind string
		sums [2]uint64
	}
	out := make([][][]int32, len(w.in.Containers))
	for c, nodes := range w.inside {
		fewest := fewestTwins
		if len(nodes) > packed && !slices.ContainsFunc(nodes, func(n int32) bool { return linked[n] }) {
			fewest = 1
		}
		groups := map[key][]int32{}
		var order []key
		for _, n := range nodes {
			k := key{w.in.Nodes[n].Kind, sums[n]}
			if groups[k] == nil {
				order = append(order, k)
			}
			groups[k] = append(groups[k], n)
		}
		for _, k := range order {
			if g := groups[k]; len(g) >= fewest {
				out[c] = append(out[c], g)
				continue
			}
			for _, n := range groups[k] {
				out[c] = append(out[c], []int32{n})
			}
		}
	}
	return out
}

// twinContainers groups the containers in each container alike: those of one kind that hold as much, and whose needs
// and users outside of them are the same.
func (w *work) twinContainers() [][][]int32 {
	seed := maphash.MakeSeed()
	sums, counts := make([][2]uint64, len(w.in.Containers)), make([]int, len(w.in.Containers))
	mix := func(n int32) uint64 {
		return maphash.Bytes(seed, []byte{byte(n), byte(n >> 8), byte(n >> 16), byte(n >> 24)})
	}
	for _, n := range w.in.Nodes {
		for c := n.Parent; c >= 0; c = w.in.Containers[c].Parent {
			counts[c]++
		}
	}
	holds := func(c int, n int32) bool {
		at := w.in.Nodes[n].Parent
		for w.depth[at] > w.depth[c] {
			at = w.in.Containers[at].Parent
		}
		return at == c
	}
	for _, n := range w.in.Needs {
		for c := w.in.Nodes[n.To].Parent; c >= 0 && !holds(c, n.From); c = w.in.Containers[c].Parent {
			sums[c][0] += mix(n.From)
		}
		for c := w.in.Nodes[n.From].Parent; c >= 0 && !holds(c, n.To); c = w.in.Containers[c].Parent {
			sums[c][1] += mix(n.To)
		}
	}
	type key struct {
		kind  string
		sums  [2]uint64
		count int
	}
	out := make([][][]int32, len(w.in.Containers))
	for c, list := range w.within {
		groups := map[key][]int32{}
		var order []key
		for _, o := range list {
			k := key{w.in.Containers[o].Kind, sums[o], counts[o]}
			if groups[k] == nil {
				order = append(order, k)
			}
			groups[k] = append(groups[k], o)
		}
		for _, k := range order {
			if g := groups[k]; k.kind != "" && len(g) >= fewestTwins {
				out[c] = append(out[c], g)
				continue
			}
			for _, o := range groups[k] {
				out[c] = append(out[c], []int32{o})
			}
		}
	}
	return out
}

// blockGap is what lies between the twins of a block, and around them.
const blockGap = 8.0

// grid says how large a block is, whose twins have their sizes: about as wide as it is high, with its label above.
func (w *work) grid(b *Block) (width, height float64) {
	for _, n := range b.Nodes {
		b.cellW, b.cellH = max(b.cellW, nodeWidth(&w.in.Nodes[n])), nodeH
	}
	for _, c := range b.Containers {
		r := w.out.Containers[c]
		b.cellW, b.cellH = max(b.cellW, r.W), max(b.cellH, r.H)
	}
	area := float64(b.Len()) * (b.cellW + blockGap) * (b.cellH + blockGap)
	b.columns = max(1, min(b.Len(), int(math.Round(math.Sqrt(area*1.4)/(b.cellW+blockGap)))))
	rows := (b.Len() + b.columns - 1) / b.columns
	return float64(b.columns)*(b.cellW+blockGap) + blockGap, float64(rows)*(b.cellH+blockGap) + blockGap + header
}

// fill places the twins of a block.
func (w *work) fill(b *Block) {
	at := func(i int) (x, y float64) {
		return b.Rect.X + blockGap + float64(i%b.columns)*(b.cellW+blockGap), b.Rect.Y + header + float64(i/b.columns)*(b.cellH+blockGap)
	}
	for i, n := range b.Nodes {
		x, y := at(i)
		w.out.Nodes[n] = Rect{x, y, b.cellW, nodeH}
	}
	for i, c := range b.Containers {
		w.out.Containers[c].X, w.out.Containers[c].Y = at(i)
	}
}
