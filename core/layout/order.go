package layout

import (
	"cmp"
	"slices"
)

// sweeps is how often the layers are gone through at most; it is less for very large drawings.
const sweeps = 12

// sifted is up to how many vertices of a layer are moved one by one.
const sifted = 300

// order brings the vertices of each layer into an order with few crossings. They start as a walk along the needs meets
// them, and where layers are not too long each moves to where it crosses least, again and again: what does not have to
// move stays where it is, so that a little more to draw moves little.
func (l *layers) order() {
	l.start()
	longest := 0
	for _, row := range l.rows {
		longest = max(longest, len(row))
	}
	if longest > sifted {
		l.sweep()
		return
	}
	for moved, rounds := true, 0; moved && rounds < sweeps; rounds++ {
		moved = false
		for i := range l.rows {
			moved = l.sift(i) || moved
		}
	}
}

// sift moves each vertex of a layer to where it crosses least, if that is better than where it is.
func (l *layers) sift(i int) (moved bool) {
	row := l.rows[i]
	for _, v := range slices.Clone(row) {
		at := int(l.pos[v])
		best, to, sum := 0, at, 0
		for k := at - 1; k >= 0; k-- { // upwards, past what stands above it
			above, below := l.cross(v, row[k])
			if sum += above - below; sum < best {
				best, to = sum, k
			}
		}
		sum = 0
		for k := at + 1; k < len(row); k++ {
			above, below := l.cross(row[k], v)
			if sum += above - below; sum < best {
				best, to = sum, k
			}
		}
		switch {
		case to < at:
			copy(row[to+1:at+1], row[to:at])
		case to > at:
			copy(row[at:to], row[at+1:to+1])
		default:
			continue
		}
		row[to], moved = v, true
		for k := min(at, to); k <= max(at, to); k++ {
			l.pos[row[k]] = int32(k)
		}
	}
	return moved
}

// sweep goes through long layers, from left to right and back: each is ordered by the mean place of its neighbours, and
// those that stand next to each other are swapped.
func (l *layers) sweep() {
	best, least := l.copyRows(), l.crossings()
	rounds := sweeps
	if len(l.at) > 50_000 {
		rounds = 4
	}
	for round, idle := 0, 0; round < rounds && idle < 4 && least > 0; round++ {
		if round%2 == 0 {
			for i := 1; i < len(l.rows); i++ {
				l.sortRow(i, l.ups)
			}
		} else {
			for i := len(l.rows) - 2; i >= 0; i-- {
				l.sortRow(i, l.downs)
			}
		}
		l.transpose()
		if n := l.crossings(); n < least {
			best, least, idle = l.copyRows(), n, 0
		} else {
			idle++
		}
	}
	l.rows = best
	for _, row := range l.rows {
		for i, v := range row {
			l.pos[v] = int32(i)
		}
	}
}

func (l *layers) copyRows() [][]int32 {
	out := make([][]int32, len(l.rows))
	for i, row := range l.rows {
		out[i] = slices.Clone(row)
	}
	return out
}

// start orders the layers as a walk along the needs meets them, from units in their declared order.
func (l *layers) start() {
	seen := make([]bool, len(l.at))
	rows := make([][]int32, len(l.rows))
	for v := range int32(l.real) {
		if seen[v] {
			continue
		}
		stack := []int32{v}
		for len(stack) > 0 {
			u := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			if seen[u] {
				continue
			}
			seen[u] = true
			rows[l.at[u]] = append(rows[l.at[u]], u)
			for _, side := range [][]int32{l.ups[u], l.downs[u]} {
				for i := len(side) - 1; i >= 0; i-- {
					if !seen[side[i]] {
						stack = append(stack, side[i])
					}
				}
			}
		}
	}
	l.rows = rows
	for _, row := range rows {
		for i, v := range row {
			l.pos[v] = int32(i)
		}
	}
}

// sortRow orders a layer by the mean place of the neighbours on one side. What has none there keeps its place.
func (l *layers) sortRow(i int, side [][]int32) {
	type placed struct {
		v    int32
		mean float64
	}
	row := l.rows[i]
	var free []placed
	for _, v := range row {
		if len(side[v]) == 0 {
			continue
		}
		sum := 0.0
		for _, u := range side[v] {
			sum += float64(l.pos[u])
		}
		free = append(free, placed{v, sum / float64(len(side[v]))})
	}
	slices.SortStableFunc(free, func(a, b placed) int { return cmp.Compare(a.mean, b.mean) })
	next := 0
	for k, v := range row {
		if len(side[v]) > 0 {
			row[k] = free[next].v
			next++
		}
	}
	for k, v := range row {
		l.pos[v] = int32(k)
	}
}

// transposed is up to how many vertices neighbours in a layer are swapped to see whether that helps.
const transposed = 20_000

// transpose swaps neighbours in a layer while that makes fewer crossings.
func (l *layers) transpose() {
	if len(l.at) > transposed {
		return
	}
	for better, rounds := true, 0; better && rounds < 6; rounds++ {
		better = false
		for _, row := range l.rows {
			for k := 0; k+1 < len(row); k++ {
				v, u := row[k], row[k+1]
				if above, below := l.cross(v, u); above > below {
					row[k], row[k+1] = u, v
					l.pos[v], l.pos[u] = int32(k+1), int32(k)
					better = true
				}
			}
		}
	}
}

// cross counts crossings among the needs of two vertices of a layer: where v stands above u, and where u does.
func (l *layers) cross(v, u int32) (above, below int) {
	for _, side := range [2][][]int32{l.ups, l.downs} {
		a, b := side[v], side[u]
		if len(a)*len(b) > 64 {
			more, less := inversions(l.places(a), l.places(b))
			above, below = above+more, below+less
			continue
		}
		for _, x := range a {
			for _, y := range b {
				switch {
				case l.pos[x] > l.pos[y]:
					above++
				case l.pos[x] < l.pos[y]:
					below++
				}
			}
		}
	}
	return above, below
}

// places are the sorted places of vertices in their layer.
func (l *layers) places(vertices []int32) []int32 {
	out := make([]int32, len(vertices))
	for i, v := range vertices {
		out[i] = l.pos[v]
	}
	slices.Sort(out)
	return out
}

// inversions counts the pairs of one place of a and one of b of which the first is greater, and is less.
func inversions(a, b []int32) (more, less int) {
	lower, upper := 0, 0 // places of b that are less than the one of a, and not greater
	for _, x := range a {
		for lower < len(b) && b[lower] < x {
			lower++
		}
		for upper < len(b) && b[upper] <= x {
			upper++
		}
		more, less = more+lower, less+len(b)-upper
	}
	return more, less
}

// crossings counts those between all layers, with a tree of sums (Barth, Jünger and Mutzel, 2002).
func (l *layers) crossings() (n int) {
	for i := 1; i < len(l.rows); i++ {
		size := 1
		for size < len(l.rows[i-1]) {
			size *= 2
		}
		tree := make([]int, 2*size)
		var ends []int32
		for _, v := range l.rows[i] {
			ends = ends[:0]
			for _, u := range l.ups[v] {
				ends = append(ends, l.pos[u])
			}
			for _, p := range ends {
				for at := int(p) + size; at > 1; at /= 2 {
					if at%2 == 0 {
						n += tree[at+1]
					}
				}
			}
			for _, p := range ends {
				for at := int(p) + size; at > 0; at /= 2 {
					tree[at]++
				}
			}
		}
	}
	return n
}
