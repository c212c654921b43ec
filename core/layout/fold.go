package layout

import (
	"math"
	"slices"
)

// A drawing that is longer than this to one side, and so many times longer than to the other, is folded.
const (
	long = 3000.0
	slim = 6.0
	busy = 16 // needs and users of a unit, from which on it is a hub
)

// strips is a drawing cut into strips: one that is too high from top to bottom, whose strips stand beside each other as
// the columns of a newspaper do; one that is too wide from left to right, whose strips lie below each other as lines of
// text do.
type strips struct {
	of    []int // by vertex
	lines []line
}

// line is a strip of a drawing that is too wide.
type line struct {
	left, right float64
	bottom      float64 // under which needs lead on to other lines
	passing     int     // how many do
}

// fold cuts a drawing that is too long to one side, and returns how much room it takes then.
func (l *layers) fold(width, height float64) (w, h float64) {
	switch {
	case height > long && height > slim*width:
		return l.columns(width, height)
	case width > long && width > slim*height:
		return l.wrap(width, height)
	}
	return width, height
}

// steady is about a length, and the same for lengths that are nearly so: a little more to draw moves little.
func steady(x float64) float64 {
	const step = 1.25
	return 100 * math.Pow(step, math.Round(math.Log(x/100)/math.Log(step)))
}

// columns folds a drawing that is too high. What is connected with many is a hub, and stands to the left of all columns
// or, if it needs more than it is needed by, to their right.
func (l *layers) columns(width, height float64) (w, h float64) {
	high := steady(height / max(2, math.Sqrt(wide*height/(width+rowGap))))
	count := int(math.Ceil(height / high))
	l.strips = &strips{of: make([]int, len(l.at))}
	users, needs := make([]int, l.real), make([]int, l.real)
	for _, chain := range l.chain {
		users[chain[0]]++
		needs[chain[len(chain)-1]]++
	}
	all := make([][]int32, count+2)
	for _, row := range l.rows {
		for _, v := range row {
			if int(v) >= l.real {
				continue
			}
			at := 1 + min(count-1, int((l.y[v]+l.h[v]/2)/high))
			switch {
			case users[v]+needs[v] < busy:
			case users[v] >= needs[v]:
				at = 0
			default:
				at = count + 1
			}
			l.strips.of[v] = at
			all[at] = append(all[at], v)
		}
	}
	for at, vertices := range all {
		if len(vertices) == 0 {
			continue
		}
		if at == 0 || at == count+1 {
			l.stack(vertices)
		}
		left, top, right := math.Inf(1), math.Inf(1), 0.0
		for _, v := range vertices {
			left, top = min(left, l.x[v]), min(top, l.y[v])
		}
		for _, v := range vertices {
			l.x[v], l.y[v] = l.x[v]-left+w, l.y[v]-top
			right, h = max(right, l.x[v]+l.w[v]), max(h, l.y[v]+l.h[v])
		}
		w = right + gapX
	}
	return w - gapX, h
}

// stack brings hubs of a layer close to each other.
func (l *layers) stack(vertices []int32) {
	next := map[int32]float64{} // by layer
	slices.SortStableFunc(vertices, func(a, b int32) int { return int(l.pos[a] - l.pos[b]) })
	for _, v := range vertices {
		l.y[v] = next[l.at[v]]
		next[l.at[v]] += l.h[v] + gapY
	}
}

// wrap folds a drawing that is too wide: as many layers make a line as have room in it.
func (l *layers) wrap(width, height float64) (w, h float64) {
	room := steady(width / max(2, math.Sqrt(width/(wide*(height+2*rowGap)))))
	s := &strips{of: make([]int, len(l.at)), lines: []line{{left: l.left[0]}}}
	l.strips = s
	lineOf := make([]int, len(l.rows))
	for i := range l.rows {
		if last := &s.lines[len(s.lines)-1]; l.right[i]-last.left > room && l.left[i] > last.left {
			s.lines = append(s.lines, line{left: l.left[i]})
		}
		lineOf[i] = len(s.lines) - 1
		s.lines[lineOf[i]].right = l.right[i]
	}
	for v, at := range l.at {
		s.of[v] = lineOf[at]
	}
	for _, chain := range l.chain {
		if from, to := s.of[chain[0]], s.of[chain[len(chain)-1]]; from != to {
			s.lines[from].passing++
		}
	}
	tops := make([]float64, len(s.lines))
	for i := range s.lines {
		at := &s.lines[i]
		tops[i] = h
		at.bottom = h + height + gapY
		h = at.bottom + lane*float64(min(at.passing, lanes)) + gapY
		w = max(w, at.right-at.left)
	}
	for v := range l.at {
		l.x[v], l.y[v] = l.x[v]-s.lines[s.of[v]].left+gapX, l.y[v]+tops[s.of[v]]
	}
	for i := range l.rows {
		l.right[i] -= s.lines[lineOf[i]].left - gapX
	}
	for i := range s.lines {
		at := &s.lines[i]
		at.left, at.right, at.passing = gapX, at.right-at.left+gapX, 0
	}
	return w + 2*gapX, s.lines[len(s.lines)-1].bottom
}

// Needs that lead from line to line lie this far apart from each other, up to some number of them.
const (
	lane  = 4.0
	lanes = 12
)

// onward is the way of a need from its line to another one: out to the right, back under the line, and in from the left.
func (s *strips) onward(from, to Point, line int) []Point {
	at := &s.lines[line]
	shift := lane * float64(at.passing%lanes)
	at.passing++
	right, under, left := at.right+gapX/4+shift/2, at.bottom+shift, gapX*3/4-shift/2
	return []Point{from, {right, from.Y}, {right, under}, {left, under}, {left, to.Y}, to}
}
