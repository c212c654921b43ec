package propose

import (
	"errors"
	"fmt"
	"slices"
	"sort"

	"kasbah/core/graph"
	"kasbah/core/nearest"
	"kasbah/core/value"
)

// connect builds the graph of everything declared or recorded. What is
// declared needs what it declares; what is only recorded needs what it was
// recorded to.
func (w *proposer) connect() {
	w.g = w.o.Graph
	if w.g == nil && w.o.Declared != nil {
		w.g, _ = graph.OfDeclared(w.o.Declared)
	}
	only := w.recordedOnly()
	if w.g != nil && len(only) == 0 {
		return
	}
	names := make([]string, 0, len(w.declared)+len(only))
	for _, d := range w.declared {
		names = append(names, d.Full())
	}
	w.g = graph.NewFrom(append(names, only...), func(n int, add func(to, why string)) {
		if n < len(w.declared) {
			for _, need := range w.declared[n].Needs {
				add(need.Address, need.Why)
			}
			return
		}
		for _, need := range w.recorded.needs(only[n-len(names)]) {
			if w.o.Declared.Resource(need) == nil { // else the two may need each other across the change
				add(need, "")
			}
		}
	})
}

// recordedOnly lists what is recorded and not declared, in byte order.
func (w *proposer) recordedOnly() []string {
	var out []string
	left := 0
	for _, s := range w.recorded.states {
		left += len(s.Records)
	}
	for _, st := range w.stored {
		if st != nil {
			left--
		}
	}
	for ward, s := range w.recorded.states {
		if left == 0 {
			break
		}
		for a := range s.Records {
			if full := value.InWard(ward, a); w.o.Declared.Resource(full) == nil && w.recorded.has(full) {
				out = append(out, full)
			}
		}
	}
	for full, r := range w.recorded.instead { // an unfinished call may have made what is not recorded yet
		if r != nil && w.o.Declared.Resource(full) == nil && w.recorded.stored(full) == nil {
			out = append(out, full)
		}
	}
	sort.Strings(out)
	return out
}

// selectOnly marks the addresses that match and what they need.
func (w *proposer) selectOnly(g *graph.Graph) error {
	if w.o.Adopt.Alone {
		w.selected = map[string]bool{}
		for full := range w.o.Adopt.Things {
			w.selected[full] = w.recorded.has(full)
		}
		return nil
	}
	if len(w.o.Only) == 0 {
		return nil
	}
	w.selected = map[string]bool{}
	hits, err := matching(g, "-only", w.o.Only)
	if err != nil {
		return err
	}
	for n, in := range g.Down(append(hits, w.usersOfRenamed(g, hits)...)...) {
		if in {
			w.selected[g.Name(int32(n))] = true
		}
	}
	w.p.Unfinished = slices.DeleteFunc(w.p.Unfinished,
		func(u Unfinished) bool { return !w.selected[value.InWard(u.Ward, u.Address)] })
	return nil
}

// matching are the resources that the patterns of a flag name; one that names none is an error.
func matching(g *graph.Graph, flag string, patterns []string) ([]int32, error) {
	var hits []int32
	if len(patterns) == 0 {
		return nil, nil
	}
	none := NewPatterns(patterns).Search(func(yield func(string, string) bool) {
		for n := range int32(g.Len()) {
			if !yield(value.SplitWard(g.Name(n))) {
				return
			}
		}
	}, func(ward, address string) {
		n, _ := g.Node(value.InWard(ward, address))
		hits = append(hits, n)
	})
	if none == "" {
		return hits, nil
	}
	var known []string
	for n := range int32(min(g.Len(), 5000)) {
		_, short := value.SplitWard(g.Name(n))
		known = append(known, short)
	}
	err := fmt.Sprintf("%s %s matches no resource", flag, none)
	if h := nearest.Hint(none, known); h != "" {
		err += "; " + h
	}
	return nil, errors.New(err)
}

// askSwaps marks what is to be swapped though nothing differs: it must be
// declared and there.
func (w *proposer) askSwaps(g *graph.Graph) error {
	w.asked = map[string]bool{}
	hits, err := matching(g, "-swap", w.o.Swap)
	if err != nil {
		return err
	}
	for _, n := range hits {
		full := g.Name(n)
		if w.o.Declared.Resource(full) == nil || !w.recorded.has(full) {
			_, short := value.SplitWard(full)
			return fmt.Errorf("-swap: %s is not both declared and recorded, so there is nothing to swap", short)
		}
		w.asked[full] = true
	}
	return nil
}
