package layout

import (
	"math"
	"slices"
)

// A drawing that is higher than this, and so many times higher than wide, is folded.
const (
	tall = 3000.0
	slim = 4.0
	busy = 16 // needs and users of a unit, from which on it is a hub
)

// folded is a drawing cut into strips from top to bottom, which stand beside each other as the columns of a newspaper
// do. What is connected with many is a hub, and stands to the left of all strips or, if it needs more than it is needed
// by, to their right.
type folded struct {
	strip []int // by vertex; -1 for a dummy
	count int
}

// fold cuts a drawing that is too high, and returns how much room it takes then.
func (l *layers) fold(width, height float64) (w, h float64) {
	if height < tall || height < slim*width {
		return width, height
	}
	count := max(2, int(math.Round(math.Sqrt(wide*height/(width+rowGap)))))
	f := &folded{strip: make([]int, len(l.at)), count: count + 2}
	for v := range l.at {
		f.strip[v] = -1
		if v < l.real {
			middle := l.y[v] + l.h[v]/2
			f.strip[v] = 1 + min(count-1, int(middle*float64(count)/height))
		}
	}
	f.hubs(l)
	l.folded = f
	return f.place(l)
}

// hubs moves hubs into the first and the last strip.
func (f *folded) hubs(l *layers) {
	users, needs := make([]int, l.real), make([]int, l.real)
	for _, chain := range l.chain {
		users[chain[0]]++
		needs[chain[len(chain)-1]]++
	}
	for v := range l.real {
		switch {
		case users[v]+needs[v] < busy:
		case users[v] >= needs[v]:
			f.strip[v] = 0
		default:
			f.strip[v] = f.count - 1
		}
	}
}

// place puts the strips beside each other.
func (f *folded) place(l *layers) (width, height float64) {
	strips := make([][]int32, f.count)
	for i := range l.rows {
		for _, v := range l.rows[i] {
			if int(v) < l.real {
				strips[f.strip[v]] = append(strips[f.strip[v]], v)
			}
		}
	}
	for s, vertices := range strips {
		if len(vertices) == 0 {
			continue
		}
		if s == 0 || s == f.count-1 {
			f.stack(l, vertices)
		}
		left, top, right, bottom := math.Inf(1), math.Inf(1), 0.0, 0.0
		for _, v := range vertices {
			left, top = min(left, l.x[v]), min(top, l.y[v])
		}
		for _, v := range vertices {
			l.x[v], l.y[v] = l.x[v]-left+width, l.y[v]-top
			right, bottom = max(right, l.x[v]+l.w[v]), max(bottom, l.y[v]+l.h[v])
		}
		width, height = right+gapX, max(height, bottom)
	}
	return width - gapX, height
}

// stack brings hubs of a layer close to each other.
func (f *folded) stack(l *layers, vertices []int32) {
	next := map[int32]float64{} // by layer
	slices.SortStableFunc(vertices, func(a, b int32) int { return int(l.pos[a] - l.pos[b]) })
	for _, v := range vertices {
		l.y[v] = next[l.at[v]]
		next[l.at[v]] += l.h[v] + gapY
	}
}
