package layout

import (
	"math"
	"slices"
)

// alignments finds the heights of the middles of all vertices after Brandes and Köpf (2002): four drawings, each of which
// keeps as many needs straight as it can in one direction, and of them the mean. Dummies of one need are
// kept straight before everything else.
func (l *layers) alignments() []float64 {
	marked := l.conflicts()
	var all [4][]float64
	for k := range all {
		all[k] = l.aligned(k&1 == 1, k&2 == 2, marked)
	}
	narrowest, least := 0, math.Inf(1)
	var lows, highs [4]float64
	for k, ys := range all {
		lows[k], highs[k] = math.Inf(1), math.Inf(-1)
		for v, y := range ys {
			lows[k], highs[k] = min(lows[k], y-l.h[v]/2), max(highs[k], y+l.h[v]/2)
		}
		if d := highs[k] - lows[k]; d < least {
			narrowest, least = k, d
		}
	}
	out := make([]float64, len(l.at))
	for k, ys := range all {
		shift := lows[narrowest] - lows[k]
		if k&2 == 2 {
			shift = highs[narrowest] - highs[k]
		}
		for v := range ys {
			ys[v] += shift
		}
	}
	for v := range out { // the mean moves less than the medians do when a little is added
		out[v] = (all[0][v] + all[1][v] + all[2][v] + all[3][v]) / 4
	}
	return out
}

// edge is a connection of two vertices, of which the first is in the layer before.
type edge struct{ up, down int32 }

// conflicts marks connections that cross one between two dummies: those are not kept straight.
func (l *layers) conflicts() map[edge]bool {
	marked := map[edge]bool{}
	for i := 1; i < len(l.rows); i++ {
		before, row := l.rows[i-1], l.rows[i]
		low, next := int32(0), 0
		for k, v := range row {
			inner := int32(-1) // the dummy before a dummy
			if int(v) >= l.real {
				for _, u := range l.ups[v] {
					if int(u) >= l.real {
						inner = u
					}
				}
			}
			if inner < 0 && k < len(row)-1 {
				continue
			}
			high := int32(len(before) - 1)
			if inner >= 0 {
				high = l.pos[inner]
			}
			for ; next <= k; next++ {
				u := row[next]
				for _, up := range l.ups[u] {
					if p := l.pos[up]; (p < low || p > high) && (int(up) < l.real || int(u) < l.real) {
						marked[edge{up, u}] = true
					}
				}
			}
			low = high
		}
	}
	return marked
}

// aligned is one of the four drawings: aligned with the layer before or behind, and packed upwards or downwards.
func (l *layers) aligned(behind, downwards bool, marked map[edge]bool) []float64 {
	n := len(l.at)
	root, next := make([]int32, n), make([]int32, n)
	for v := range root {
		root[v], next[v] = int32(v), int32(v)
	}
	side := l.ups
	if behind {
		side = l.downs
	}
	place := func(v int32) int32 {
		if downwards {
			return int32(len(l.rows[l.at[v]])) - 1 - l.pos[v]
		}
		return l.pos[v]
	}
	var near []int32
	for k := range l.rows {
		if behind {
			k = len(l.rows) - 1 - k
		}
		reached := int32(-1)
		for j := range l.rows[k] {
			if downwards {
				j = len(l.rows[k]) - 1 - j
			}
			v := l.rows[k][j]
			if len(side[v]) == 0 {
				continue
			}
			near = append(near[:0], side[v]...)
			slices.SortFunc(near, func(a, b int32) int { return int(place(a) - place(b)) })
			for _, m := range [2]int{(len(near) - 1) / 2, len(near) / 2} {
				u := near[m]
				e := edge{u, v}
				if behind {
					e = edge{v, u}
				}
				if next[v] == v && !marked[e] && reached < place(u) {
					next[u], root[v] = v, root[u]
					next[v] = root[v]
					reached = place(u)
				}
			}
		}
	}
	return l.compacted(root, downwards)
}

// compacted packs the blocks of an alignment, whose vertices have one height, as close as their boxes allow.
func (l *layers) compacted(root []int32, downwards bool) []float64 {
	n := len(l.at)
	type bound struct {
		other int32
		gap   float64
	}
	above, below := make([][]bound, n), make([][]bound, n) // by root: blocks that must lie on that side of it
	waits := make([]int32, n)
	for _, row := range l.rows {
		for k := 1; k < len(row); k++ {
			a, b := row[k-1], row[k]
			gap := (l.h[a]+l.h[b])/2 + gapY
			if int(a) >= l.real || int(b) >= l.real {
				gap = (l.h[a]+l.h[b])/2 + gapY/2
			}
			ra, rb := root[a], root[b]
			if downwards {
				ra, rb = rb, ra
			}
			above[rb] = append(above[rb], bound{ra, gap})
			below[ra] = append(below[ra], bound{rb, gap})
			waits[rb]++
		}
	}
	y := make([]float64, n)
	var sorted []int32
	for v := range int32(n) {
		if root[v] == v && waits[v] == 0 {
			sorted = append(sorted, v)
		}
	}
	for i := 0; i < len(sorted); i++ {
		r := sorted[i]
		for _, b := range above[r] {
			y[r] = max(y[r], y[b.other]+b.gap)
		}
		for _, b := range below[r] {
			if waits[b.other]--; waits[b.other] == 0 {
				sorted = append(sorted, b.other)
			}
		}
	}
	for i := len(sorted) - 1; i >= 0; i-- { // what has room comes close to what lies behind it
		r, least := sorted[i], math.Inf(1)
		for _, b := range below[r] {
			least = min(least, y[b.other]-b.gap)
		}
		if !math.IsInf(least, 1) && len(above[r]) == 0 {
			y[r] = max(y[r], least)
		}
	}
	out := make([]float64, n)
	for v := range out {
		if out[v] = y[root[v]]; downwards {
			out[v] = -out[v]
		}
	}
	return out
}
