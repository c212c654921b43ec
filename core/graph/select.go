package graph

import (
	"strings"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Select marks the nodes that lie on the way from some addresses to others; all where none are
// named.
func Select(g *Graph, from, to []string) ([]bool, error) {
	in := make([]bool, g.Len())
	for i := range in {
		in[i] = true
	}
	limit := func(addresses []string, closure func(...int32) []bool) error {
		if len(addresses) == 0 {
			return nil
		}
		var nodes []int32
		for _, address := range addresses {
			n, err := find(g, address)
			if err != nil {
				return err
			}
			nodes = append(nodes, n)
		}
		for i, ok := range closure(nodes...) {
			in[i] = in[i] && ok
		}
		return nil
	}
	if err := limit(from, g.Up); err != nil {
		return nil, err
	}
	return in, limit(to, g.Down)
}

// find finds a resource by its address, with or without its ward.
func find(g *Graph, address string) (int32, error) {
	if n, ok := g.Node(address); ok {
		return n, nil
	}
	var hits, known []string
	for _, full := range g.names {
		_, short := value.SplitWard(full)
		known = append(known, short)
		if short == address {
			hits = append(hits, full)
		}
	}
	switch len(hits) {
	case 1:
		n, _ := g.Node(hits[0])
		return n, nil
	case 0:
		_, short := value.SplitWard(address)
		return 0, &problem.UsageError{Message: "no resource has the address " + address, Hint: nearest.Hint(short,
			known)}
	}
	return 0, problem.Usage("%s is in several wards; write one of %s", address, strings.Join(hits, ", "))
}
