package layout

import (
	"math"
	"strconv"
)

// appendRounded writes a coordinate in JSON: tenths of a pixel are enough.
func appendRounded(b []byte, x float64) []byte {
	return strconv.AppendFloat(b, math.Round(x*10)/10, 'f', -1, 64)
}

func list(xs ...float64) []byte {
	b := []byte{'['}
	for i, x := range xs {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendRounded(b, x)
	}
	return append(b, ']')
}

// MarshalJSON writes [x, y, width, height].
func (r Rect) MarshalJSON() ([]byte, error) { return list(r.X, r.Y, r.W, r.H), nil }

// MarshalJSON writes [from, to, [needs], [x, y, x, y, …]]. Places are c, b or n, for a container, a block or a node, and
// a number. The path is left out where it leads from the middle of a side to the middle of the other, and nowhere else.
func (r Road) MarshalJSON() ([]byte, error) {
	b := append([]byte{'['}, r.From.json()...)
	b = append(append(b, ','), r.To.json()...)
	b = append(b, ',', '[')
	for i, n := range r.Needs {
		if i > 0 {
			b = append(b, ',')
		}
		b = strconv.AppendInt(b, int64(n), 10)
	}
	b = append(b, ']')
	if len(r.Path) > 2 || r.Path[0].X > r.Path[1].X {
		b = append(b, ',', '[')
		for i, at := range r.Path {
			if i > 0 {
				b = append(b, ',')
			}
			b = strconv.AppendInt(b, int64(math.Round(at.X)), 10)
			b = strconv.AppendInt(append(b, ','), int64(math.Round(at.Y)), 10)
		}
		b = append(b, ']')
	}
	return append(b, ']'), nil
}

func (p Place) json() []byte {
	return append(strconv.AppendInt([]byte{'"', "cbn"[p.Is]}, int64(p.Index), 10), '"')
}
