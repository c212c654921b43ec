package layout

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// random makes an estate of wards, kits within them, and nodes whose needs lead from earlier to later ones, mostly
// within their container.
func random(rng *rand.Rand, nodes int) *Input {
	in := &Input{Containers: []Container{{"coast", "", -1}}}
	wards := 1 + rng.IntN(5)
	for w := range wards {
		in.Containers = append(in.Containers, Container{fmt.Sprint("ward-", w), "", 0})
	}
	for k := range rng.IntN(1 + nodes/10) {
		in.Containers = append(in.Containers, Container{fmt.Sprint("kit-", k), "station", 1 + rng.IntN(len(in.Containers)-1)})
	}
	home := func() int { return 1 + rng.IntN(len(in.Containers)-1) }
	at := home()
	for n := range nodes {
		if rng.IntN(6) == 0 {
			at = home()
		}
		in.Nodes = append(in.Nodes, Node{Label: fmt.Sprint("gauge-", n), Note: "medina.machine", Kind: fmt.Sprint("kind-", rng.IntN(3)), Parent: at})
		for range rng.IntN(4) {
			if n == 0 {
				break
			}
			back := 1 + rng.IntN(min(n, 20))
			if rng.IntN(10) == 0 {
				back = 1 + rng.IntN(n)
			}
			in.Needs = append(in.Needs, Need{int32(n - back), int32(n)})
		}
	}
	return in
}

func (r Rect) holds(o Rect) bool {
	const slip = 1e-6
	return o.X >= r.X-slip && o.Y >= r.Y-slip && o.X+o.W <= r.X+r.W+slip && o.Y+o.H <= r.Y+r.H+slip
}

func (r Rect) meets(o Rect) bool {
	const slip = 1e-6
	return r.X+slip < o.X+o.W && o.X+slip < r.X+r.W && r.Y+slip < o.Y+o.H && o.Y+slip < r.Y+r.H
}

// check holds a drawing against what every drawing promises.
func check(t *testing.T, in *Input, d *Drawing) {
	t.Helper()
	boxes := make([][]Rect, len(in.Containers)) // by container: what it holds directly
	twin := map[int]bool{}
	for _, b := range d.Blocks {
		for _, c := range b.Containers {
			twin[int(c)] = true
		}
	}
	for i, c := range in.Containers {
		if c.Parent >= 0 && twin[i] {
			require.True(t, d.Containers[c.Parent].holds(d.Containers[i]))
		} else if c.Parent >= 0 {
			require.True(t, d.Containers[c.Parent].holds(d.Containers[i]), "%s leaves the container it is in", c.Label)
			boxes[c.Parent] = append(boxes[c.Parent], d.Containers[i])
		}
	}
	inBlock := map[int32]bool{}
	for _, b := range d.Blocks {
		require.True(t, d.Containers[b.Container].holds(b.Rect))
		boxes[b.Container] = append(boxes[b.Container], b.Rect)
		for i, c := range b.Containers {
			require.True(t, b.Rect.holds(d.Containers[c]), "a twin leaves its block")
			for _, o := range b.Containers[:i] {
				require.False(t, d.Containers[c].meets(d.Containers[o]), "two twins overlap")
			}
		}
		for i, n := range b.Nodes {
			inBlock[n] = true
			require.True(t, b.Rect.holds(d.Nodes[n]), "a twin leaves its block")
			for _, o := range b.Nodes[:i] {
				require.False(t, d.Nodes[n].meets(d.Nodes[o]), "two twins overlap")
			}
		}
	}
	for i, n := range in.Nodes {
		require.True(t, d.Containers[n.Parent].holds(d.Nodes[i]), "%s leaves its container", n.Label)
		if !inBlock[int32(i)] {
			boxes[n.Parent] = append(boxes[n.Parent], d.Nodes[i])
		}
	}
	for c, list := range boxes {
		for i, a := range list {
			for _, b := range list[:i] {
				require.False(t, a.meets(b), "two boxes of %s overlap: %v %v", in.Containers[c].Label, a, b)
			}
		}
	}
	rect := func(p Place) Rect {
		switch p.Is {
		case OfContainer:
			return d.Containers[p.Index]
		case OfBlock:
			return d.Blocks[p.Index].Rect
		}
		return d.Nodes[p.Index]
	}
	total := 0
	seen := map[[2]Place]bool{}
	for _, r := range d.Roads {
		total += len(r.Needs)
		require.False(t, seen[[2]Place{r.From, r.To}], "a road is drawn twice")
		seen[[2]Place{r.From, r.To}] = true
		first, last := rect(r.From), rect(r.To)
		begin, end := r.Path[0], r.Path[len(r.Path)-1]
		onEdge := func(p Point, r Rect) bool { return p.X > r.X-1 && p.X < r.X+r.W+1 && p.Y > r.Y-1 && p.Y < r.Y+r.H+1 }
		require.True(t, onEdge(begin, first) && onEdge(end, last), "a road leads elsewhere: %v %v %v %v", begin, first, end, last)
	}
	// what leads from one twin to another is within their block
	within := 0
	nodeBlock, containerBlock := map[int32]int{}, map[int]int{}
	for b := range d.Blocks {
		for _, n := range d.Blocks[b].Nodes {
			nodeBlock[n] = b + 1
		}
		for _, c := range d.Blocks[b].Containers {
			containerBlock[int(c)] = b + 1
		}
	}
	around := func(n int32) map[int]bool {
		out := map[int]bool{}
		if b := nodeBlock[n]; b != 0 {
			out[b] = true
		}
		for c := in.Nodes[n].Parent; c >= 0; c = in.Containers[c].Parent {
			if b := containerBlock[c]; b != 0 {
				out[b] = true
			}
		}
		return out
	}
	parts := func(n int32) map[int]bool { // containers around a node
		out := map[int]bool{}
		for c := in.Nodes[n].Parent; c >= 0; c = in.Containers[c].Parent {
			out[c] = true
		}
		return out
	}
	for _, n := range in.Needs {
		from := around(n.From)
		for b := range around(n.To) {
			if !from[b] {
				continue
			}
			one, other := parts(n.From), parts(n.To)
			same := false // twin containers: in one of them both
			for _, c := range d.Blocks[b-1].Containers {
				same = same || one[int(c)] && other[int(c)]
			}
			if !same {
				within++
				break
			}
		}
	}
	require.Equal(t, len(in.Needs), total+within, "every need is drawn")
}

// TestProperties: boxes do not overlap, containers hold what is in them, every need is drawn once, and the same input
// gives the same drawing.
func TestProperties(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 150 {
		in := random(rng, 1+rng.IntN(120))
		d := Draw(in)
		check(t, in, d)
		require.Equal(t, d, Draw(in))
	}
	empty := Draw(&Input{Containers: []Container{{"coast", "", -1}}})
	require.Positive(t, empty.Size.W)
}

// TestFit: a text is cut to its box, and a box is as wide as its text.
func TestFit(t *testing.T) {
	for _, text := range []string{"", "gauge", "WWWWWWWW", "a-name-that-goes-on-and-on-and-on-and-on-and-on-and-on", "灯台灯台灯台灯台灯台灯台灯台灯台灯台灯台"} {
		n := Node{Label: text, Note: "medina.machine"}
		room := nodeWidth(&n) - 2*inset
		cut := Fit(text, labelSize, room)
		require.LessOrEqual(t, TextWidth(cut, labelSize), room+1e-9, text)
		if TextWidth(text, labelSize) <= room {
			require.Equal(t, text, cut)
		}
	}
}

// TestForms: a long chain stands in lines, a fan of twins is one block, and what nothing connects stands in a grid that is
// wider than high.
func TestForms(t *testing.T) {
	chain := &Input{Containers: []Container{{"coast", "", -1}}}
	for n := range 60 {
		chain.Nodes = append(chain.Nodes, Node{Label: "link", Kind: "link"})
		if n > 0 {
			chain.Needs = append(chain.Needs, Need{int32(n - 1), int32(n)})
		}
	}
	d := Draw(chain)
	check(t, chain, d)
	require.Less(t, d.Size.W, 3*d.Size.H, "it goes on in lines")
	require.Less(t, d.Size.H, d.Size.W)
	for i, r := range d.Nodes[1:] {
		require.True(t, r.Y > d.Nodes[i].Y || r.Y == d.Nodes[i].Y && r.X > d.Nodes[i].X, "it is read as a text is")
	}

	fan := &Input{Containers: []Container{{"coast", "", -1}}, Nodes: []Node{{Label: "net", Kind: "network"}}}
	for n := range 3000 {
		fan.Nodes = append(fan.Nodes, Node{Label: "gauge", Kind: "machine"})
		fan.Needs = append(fan.Needs, Need{0, int32(n + 1)})
	}
	d = Draw(fan)
	check(t, fan, d)
	require.Len(t, d.Blocks, 1)
	require.Len(t, d.Roads, 1)
	require.Less(t, d.Size.H, 2*d.Size.W)

	quays := &Input{Containers: []Container{{"coast", "", -1}}, Nodes: []Node{{Label: "net", Kind: "network"}}}
	for n := range int32(800) { // each quay has a gauge, so they are not twins
		quays.Nodes = append(quays.Nodes, Node{Label: "quay", Kind: "subnet"}, Node{Label: "gauge", Kind: "machine"})
		quays.Needs = append(quays.Needs, Need{0, 2*n + 1}, Need{2*n + 1, 2*n + 2})
	}
	d = Draw(quays)
	check(t, quays, d)
	require.Less(t, d.Size.H, 2*d.Size.W, "what is too high is folded")
	require.Less(t, d.Size.W, 4*d.Size.H)
	for _, r := range d.Nodes[1:] {
		require.Less(t, d.Nodes[0].X, r.X, "what all need stands to their left")
	}

	alone := &Input{Containers: []Container{{"coast", "", -1}}}
	for n := range 300 {
		alone.Nodes = append(alone.Nodes, Node{Label: "log", Kind: fmt.Sprint("kind-", n)})
	}
	d = Draw(alone)
	check(t, alone, d)
	require.Greater(t, d.Size.W, d.Size.H)
	require.Less(t, d.Size.W, 3*d.Size.H)
}

// BenchmarkDraw draws 20 000 nodes with 60 000 needs.
func BenchmarkDraw(b *testing.B) {
	rng := rand.New(rand.NewPCG(3, 4))
	in := random(rng, 20_000)
	for len(in.Needs) < 60_000 {
		n := 1 + rng.IntN(19_999)
		in.Needs = append(in.Needs, Need{int32(n - 1 - rng.IntN(min(n, 30))), int32(n)})
	}
	for b.Loop() {
		Draw(in)
	}
}

// BenchmarkHubs draws 20 000 nodes in eight wards, some of which nearly a thousand others need.
func BenchmarkHubs(b *testing.B) {
	in := &Input{Containers: []Container{{"coast", "", -1}}}
	for w := range 8 {
		in.Containers = append(in.Containers, Container{fmt.Sprint("shore-", w), "", 0})
		base := int32(len(in.Nodes))
		need := func(from, to int) { in.Needs = append(in.Needs, Need{base + int32(from), base + int32(to)}) }
		for n := range 2500 {
			in.Nodes = append(in.Nodes, Node{Label: fmt.Sprint("lamp-", n), Kind: "lamp", Parent: w + 1})
			switch {
			case n == 0:
			case n < 3:
				need(0, n)
			case n < 628:
				need(1+n%2, n)
			default:
				for _, k := range []int{n, n*7 + 1, n*13 + 2} {
					need(3+k%625, n)
				}
				need(1+n%2, n)
			}
		}
	}
	for b.Loop() {
		Draw(in)
	}
}

// TestInversions: pairs are counted as one by one, equal places as neither.
func TestInversions(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	for range 200 {
		var a, b []int32
		for range rng.IntN(20) {
			a = append(a, int32(rng.IntN(15)))
		}
		for range rng.IntN(20) {
			b = append(b, int32(rng.IntN(15)))
		}
		slices.Sort(a)
		slices.Sort(b)
		more, less := 0, 0
		for _, x := range a {
			for _, y := range b {
				if x > y {
					more++
				}
				if x < y {
					less++
				}
			}
		}
		gotMore, gotLess := inversions(a, b)
		require.Equal(t, []int{more, less}, []int{gotMore, gotLess})
	}
}
