package render

import (
	"fmt"

	"kasbah/core/propose"
	"kasbah/core/value"
)

// Compare writes what differs.
func (o *Out) Compare(d *propose.Comparison) {
	for i, w := range d.Wards {
		if i > 0 {
			o.Printf("\n")
		}
		o.Printf("%s\n", o.Bold(fmt.Sprintf("%s: %s and %s", w.Ward, Clean(d.A), Clean(d.B))))
		var rows [][]string
		for _, address := range w.OnlyA {
			rows = append(rows, []string{"  " + Clean(address), "only in " + Clean(d.A)})
		}
		for _, address := range w.OnlyB {
			rows = append(rows, []string{"  " + Clean(address), "only in " + Clean(d.B)})
		}
		o.Sheet(rows)
		for _, r := range w.Differs {
			o.Printf("  %s\n", Clean(r.Address))
			var rows [][]string
			for _, c := range r.Changes {
				rows = append(rows, []string{"    " + Clean(c.Path), shownOr(c.A.V), shownOr(c.B.V)})
			}
			o.Sheet(rows)
		}
		differ := Count(len(w.Differs), "resource") + " differ"
		if len(w.Differs) == 1 {
			differ += "s"
		}
		o.Printf("%s, %d only in %s, %d only in %s, %d the same.\n", differ, len(w.OnlyA), Clean(d.A), len(w.OnlyB),
			Clean(d.B), w.Same)
	}
}

func shownOr(v any) string {
	if v == nil {
		return "none"
	}
	return Clean(value.Plain(v))
}

func entries(n int64) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}
