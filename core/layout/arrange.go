package layout

import (
	"math"
	"slices"
)

// arrange places the units of a container beside and below each other, and finds the ways of its roads. It returns how
// much room they take.
func arrange(c int, units []unit, lifts []lift) (width, height float64, roads []Road) {
	parts, alone := components(len(units), lifts)
	boxes := make([]Rect, 0, len(parts)+1)
	drawn := make([]*layers, len(parts))
	for i, part := range parts {
		l := newLayers(units, part.units, part.lifts)
		l.order()
		w, h := l.fold(l.coordinates())
		drawn[i], boxes = l, append(boxes, Rect{W: w, H: h})
	}
	if len(alone) > 0 {
		single := make([]Rect, len(alone))
		for i, u := range alone {
			single[i] = Rect{W: units[u].w, H: units[u].h}
		}
		w, h := shelves(single, apart(single))
		for i, u := range alone {
			units[u].x, units[u].y = single[i].X, single[i].Y
		}
		boxes = append(boxes, Rect{W: w, H: h})
	}
	width, height = shelves(boxes, rowGap)
	if len(alone) > 0 {
		at := boxes[len(parts)]
		for _, u := range alone {
			units[u].x, units[u].y = units[u].x+at.X, units[u].y+at.Y
		}
	}
	for i, part := range parts {
		l, at := drawn[i], boxes[i]
		for k, u := range part.units {
			units[u].x, units[u].y = at.X+l.x[k], at.Y+l.y[k]
		}
		for k, lift := range part.lifts {
			road := Road{Container: c, From: units[lift.from].place, To: units[lift.to].place, Needs: lift.needs, Path: l.path(k)}
			for j := range road.Path {
				road.Path[j].X, road.Path[j].Y = road.Path[j].X+at.X, road.Path[j].Y+at.Y
			}
			roads = append(roads, road)
		}
	}
	return width, height, roads
}

// wide is how much wider than high things are that nothing else gives a form.
const wide = 1.6

// apart is how far boxes are from each other: large ones farther, so that the gap can be seen where they can.
func apart(boxes []Rect) float64 {
	sum := 0.0
	for _, b := range boxes {
		sum += b.W + b.H
	}
	return max(gapY, 0.02*sum/float64(len(boxes)))
}

// shelves places boxes that nothing connects beside each other, in rows from top to bottom.
func shelves(boxes []Rect, gap float64) (width, height float64) {
	area, room := 0.0, 0.0
	for _, b := range boxes {
		area += (b.W + gap) * (b.H + gap)
		room = max(room, b.W)
	}
	room = max(room, math.Sqrt(area*wide))
	x, y, high := 0.0, 0.0, 0.0
	for i := range boxes {
		b := &boxes[i]
		if x > 0 && x+b.W > room {
			x, y, high = 0, y+high+gap, 0
		}
		b.X, b.Y = x, y
		width, high = max(width, x+b.W), max(high, b.H)
		x += b.W + gap
	}
	return width, y + high
}

// component is what hangs together.
type component struct {
	units []int32
	lifts []lift // between units of the container
}

// components are the parts that needs connect, in the order of their first units, and the units without any.
func components(n int, lifts []lift) (parts []component, alone []int32) {
	root := make([]int32, n)
	for i := range root {
		root[i] = int32(i)
	}
	var find func(i int32) int32
	find = func(i int32) int32 {
		for root[i] != i {
			root[i] = root[root[i]]
			i = root[i]
		}
		return i
	}
	for _, l := range lifts {
		a, b := find(l.from), find(l.to)
		root[max(a, b)] = min(a, b)
	}
	at := map[int32]int{}
	linked := make([]bool, n)
	for _, l := range lifts {
		linked[l.from], linked[l.to] = true, true
	}
	for i := range int32(n) {
		if !linked[i] {
			alone = append(alone, i)
			continue
		}
		r := find(i)
		if _, there := at[r]; !there {
			at[r] = len(parts)
			parts = append(parts, component{})
		}
		parts[at[r]].units = append(parts[at[r]].units, i)
	}
	for _, l := range lifts {
		p := &parts[at[find(l.from)]]
		p.lifts = append(p.lifts, l)
	}
	return parts, alone
}

// layers is a component in layers from left to right. Vertices are its units, and behind them a dummy for each layer
// that a need passes.
type layers struct {
	w, h  []float64
	at    []int32   // layer of a vertex
	rows  [][]int32 // vertices by layer, from top to bottom
	pos   []int32   // of a vertex in its layer
	ups   [][]int32 // vertices of the layer before that it is connected to
	downs [][]int32 // of the layer behind
	real  int       // units; what comes behind are dummies
	chain [][]int32 // by need: the vertices that it passes, from left to right
	back  []bool    // by need: it leads from right to left
	x, y  []float64 // upper left corners
	right []float64 // by layer: its right edge
	left  []float64

	strips *strips // nil for a drawing that is not folded
}

const dummyH = 6.0

func newLayers(units []unit, part []int32, lifts []lift) *layers {
	l := &layers{real: len(part), chain: make([][]int32, len(lifts)), back: make([]bool, len(lifts))}
	local := make(map[int32]int32, len(part))
	for i, u := range part {
		local[u] = int32(i)
		l.w, l.h = append(l.w, units[u].w), append(l.h, units[u].h)
	}
	from, to := make([]int32, len(lifts)), make([]int32, len(lifts))
	for i, one := range lifts {
		from[i], to[i] = local[one.from], local[one.to]
	}
	l.breakCycles(from, to)
	l.longestPaths(from, to)
	l.connect(from, to)
	return l
}

// breakCycles turns needs around that would lead back to where a depth-first walk comes from.
func (l *layers) breakCycles(from, to []int32) {
	out := make([][]int32, l.real) // needs by where they begin
	for i, f := range from {
		out[f] = append(out[f], int32(i))
	}
	const unseen, open, done = 0, 1, 2
	state, next := make([]uint8, l.real), make([]int, l.real)
	for start := range int32(l.real) {
		if state[start] != unseen {
			continue
		}
		stack := []int32{start}
		state[start] = open
		for len(stack) > 0 {
			v := stack[len(stack)-1]
			if next[v] == len(out[v]) {
				state[v], stack = done, stack[:len(stack)-1]
				continue
			}
			e := out[v][next[v]]
			next[v]++
			switch u := to[e]; state[u] {
			case open:
				l.back[e] = true
			case unseen:
				state[u], stack = open, append(stack, u)
			}
		}
	}
	for e, back := range l.back {
		if back {
			from[e], to[e] = to[e], from[e]
		}
	}
}

// longestPaths gives each unit its layer: behind everything that it needs. One that needs nothing stands right before
// what needs it.
func (l *layers) longestPaths(from, to []int32) {
	l.at = make([]int32, l.real)
	in, out := make([]int, l.real), make([][]int32, l.real)
	for i, f := range from {
		out[f] = append(out[f], to[i])
		in[to[i]]++
	}
	var queue []int32
	for v := range int32(l.real) {
		if in[v] == 0 {
			queue = append(queue, v)
		}
	}
	sources := len(queue)
	for i := 0; i < len(queue); i++ {
		v := queue[i]
		for _, u := range out[v] {
			l.at[u] = max(l.at[u], l.at[v]+1)
			if in[u]--; in[u] == 0 {
				queue = append(queue, u)
			}
		}
	}
	for _, v := range queue[:sources] {
		nearest := int32(math.MaxInt32)
		for _, u := range out[v] {
			nearest = min(nearest, l.at[u])
		}
		l.at[v] = nearest - 1
	}
}

// connect makes the dummies, and lets every vertex know its neighbours.
func (l *layers) connect(from, to []int32) {
	for i := range from {
		chain := []int32{from[i]}
		for at := l.at[from[i]] + 1; at < l.at[to[i]]; at++ {
			chain = append(chain, int32(len(l.at)))
			l.at, l.w, l.h = append(l.at, at), append(l.w, 0), append(l.h, dummyH)
		}
		l.chain[i] = append(chain, to[i])
	}
	l.ups, l.downs, l.pos = make([][]int32, len(l.at)), make([][]int32, len(l.at)), make([]int32, len(l.at))
	for _, chain := range l.chain {
		for i, v := range chain[1:] {
			l.ups[v], l.downs[chain[i]] = append(l.ups[v], chain[i]), append(l.downs[chain[i]], v)
		}
	}
	last := slices.Max(l.at)
	l.rows = make([][]int32, last+1)
	for v, at := range l.at { // units in the declared order, dummies behind them
		l.pos[v] = int32(len(l.rows[at]))
		l.rows[at] = append(l.rows[at], int32(v))
	}
}

// coordinates places every vertex, and returns how much room they take.
func (l *layers) coordinates() (width, height float64) {
	l.x, l.y = make([]float64, len(l.at)), l.alignments()
	l.left, l.right = make([]float64, len(l.rows)), make([]float64, len(l.rows))
	top := math.Inf(1)
	for v := range l.at {
		l.y[v] -= l.h[v] / 2
		top = min(top, l.y[v])
	}
	x := 0.0
	for i, row := range l.rows {
		wide := 0.0
		for _, v := range row {
			l.x[v], wide = x, max(wide, l.w[v])
		}
		l.left[i], l.right[i] = x, x+wide
		x += wide + gapX
	}
	for v := range l.at {
		l.y[v] -= top
		if v < l.real {
			height = max(height, l.y[v]+l.h[v])
		}
		height = max(height, l.y[v]+l.h[v])
	}
	return x - gapX, height
}

// path is the way of a need: straight through every layer that it passes.
func (l *layers) path(need int) (out []Point) {
	chain := l.chain[need]
	first, last := chain[0], chain[len(chain)-1]
	if s := l.strips; s != nil {
		from, to := Point{l.x[first] + l.w[first], l.y[first] + l.h[first]/2}, Point{l.x[last], l.y[last] + l.h[last]/2}
		switch {
		case s.lines == nil: // what it passes by lies elsewhere now
			out = []Point{from, to}
		case s.of[first] != s.of[last]:
			out = s.onward(from, to, s.of[first])
		}
		if out != nil && l.back[need] {
			slices.Reverse(out)
		}
		if out != nil {
			return out
		}
	}
	for i, v := range chain {
		y := l.y[v] + l.h[v]/2
		if i > 0 {
			out = append(out, Point{l.x[v], y})
		}
		switch {
		case i == len(chain)-1:
		case int(v) < l.real:
			out = append(out, Point{l.x[v] + l.w[v], y})
		default:
			out = append(out, Point{l.right[l.at[v]], y})
		}
	}
	if l.back[need] {
		slices.Reverse(out)
	}
	return out
}
