package enact

import (
	"container/heap"
	"fmt"
	"strings"

	"kasbah/core/graph"
	"kasbah/core/propose"
)

// half says which part of an action a step is.
type half string

const (
	create  half = "make"    // create the thing
	edit    half = "edit"    // change it in place
	letGo   half = "let go"  // take references away before an edit
	remove  half = "remove"  // delete the thing, or the leftovers of a swap
	release half = "release" // stop managing the thing; no call is made
	adopt   half = "adopt"   // record a thing that exists; no call is made
	rename  half = "rename"  // record the thing under its new address; no call is made
	barrier half = ""        // nothing: it only orders others
)

// step is one part of an action, ready when all before it are done.
type step struct {
	action *propose.Action
	half   half
	name   string
	before int     // steps that must be done first and are not yet
	after  []*step // steps that wait for this one
	weight float64 // longest remaining chain, this step included
}

// plan turns a proposal's actions into ordered steps.
//
// Something is made or edited after everything it needs, and removed after
// everything that was recorded to need it has let go. The halves of a swap
// follow each other as its order says.
func plan(p *propose.Proposal) ([]*step, error) {
	b := &planner{steps: map[string]*step{}, actions: map[string]*propose.Action{}}
	for _, a := range p.Actions {
		if a.Kind == propose.Same || a.Plan == nil {
			continue
		}
		b.actions[a.Full()] = a
		b.add(a)
	}
	for _, name := range b.names {
		b.connect(b.steps[name])
	}
	edges := b.withBarriers()
	g := graph.New(b.names, edges)
	order, cycle := g.Order()
	if cycle != nil {
		g = graph.New(b.names, b.edges)
		if order, cycle = g.Order(); cycle != nil {
			return nil, fmt.Errorf("the steps wait for each other: %s", strings.Join(cycle, ", which waits for "))
		}
	}
	rest := g.Remaining(func(n int32) float64 { return b.steps[g.Name(n)].takes() })
	out := make([]*step, 0, len(order))
	for _, n := range order {
		s := b.steps[g.Name(n)]
		s.weight = rest[n]
		s.before = len(g.Needs(n))
		for _, u := range g.Users(n) {
			s.after = append(s.after, b.steps[g.Name(u)])
		}
		out = append(out, s)
	}
	return out, nil
}

// takes is what a step takes by the forecast, in seconds; a moment when
// nothing is known, so that deeper chains begin first.
func (s *step) takes() float64 {
	const moment = 0.001
	if s.half == barrier {
		return 0
	}
	if s.half == rename || s.half == adopt {
		return moment
	}
	return moment + s.action.Seconds/float64(len(inCloud(s.action)))
}

type planner struct {
	names   []string
	steps   map[string]*step
	actions map[string]*propose.Action // changing ones, by full address
	edges   []graph.Edge
}

func key(full string, h half) string { return string(h) + " " + full }

func (b *planner) add(a *propose.Action) {
	for _, h := range halves(a) {
		s := &step{action: a, half: h, name: key(a.Full(), h)}
		b.names = append(b.names, s.name)
		b.steps[s.name] = s
	}
}

// halves lists what an action does, in order.
func halves(a *propose.Action) []half {
	switch {
	case a.Was != "":
		return append([]half{rename}, inCloud(a)...)
	case a.Adopts != "":
		return append([]half{adopt}, inCloud(a)...)
	}
	return inCloud(a)
}

// inCloud lists what an action does but for renaming and adopting, in order.
func inCloud(a *propose.Action) []half {
	switch a.Kind {
	case propose.Rename, propose.Adopt:
		return nil
	case propose.New:
		return []half{create}
	case propose.Edit:
		if len(a.Plan.LetGo) > 0 {
			return []half{letGo, edit}
		}
		return []half{edit}
	case propose.Release:
		return []half{release}
	case propose.Drop:
		return []half{remove}
	}
	switch {
	case a.Plan.Seen.ID == "": // a drop-first swap ended between its halves
		return []half{create}
	case !a.Remakes() && len(a.Changes) == 0: // a create-first one did
		return []half{remove}
	case !a.Remakes():
		return []half{edit, remove}
	case a.Plan.Order == "drop-first":
		return []half{remove, create}
	}
	return []half{create, remove}
}

func (b *planner) edge(from, to string) { b.edges = append(b.edges, graph.Edge{From: from, To: to}) }

// connect adds the edges of a step: what it must wait for.
func (b *planner) connect(s *step) {
	full := s.action.Full()
	if s.half != remove && s.half != letGo && s.half != rename {
		for _, n := range s.action.Needs {
			for _, h := range []half{rename, adopt, create, edit} {
				if b.steps[key(n, h)] != nil {
					b.edge(s.name, key(n, h))
				}
			}
		}
	}
	if s.half == create || s.half == edit { // what moves an output that it uses
		for _, by := range s.action.Plan.After {
			if x := b.actions[by]; x != nil {
				for _, h := range halves(x) {
					b.edge(s.name, key(by, h))
				}
			}
		}
	}
	hs := halves(s.action)
	for i := 1; i < len(hs); i++ {
		if hs[i] == s.half {
			b.edge(s.name, key(full, hs[i-1]))
		}
	}
	// what this resource was recorded to need can only go after it let go
	if s.action.Plan.Seen == nil {
		return
	}
	for _, n := range s.action.Plan.Seen.Needs {
		x := b.actions[n]
		if x == nil || b.steps[key(n, remove)] == nil {
			continue
		}
		dropFirst := x.Kind == propose.Swap && x.Remakes() && x.Plan.Order == "drop-first"
		switch {
		case s.half == remove:
			b.edge(key(n, remove), s.name)
		case s.half == letGo, s.half == edit && !dropFirst:
			b.edge(key(n, remove), s.name)
		}
	}
}

// withBarriers lets what is dropped go before what is made of the same type,
// where two things may not share a name or a range: the new one may take the
// old one's. The edges are used only if they close no cycle.
func (b *planner) withBarriers() []graph.Edge {
	edges := b.edges
	made := map[string][]string{}
	gone := map[string][]string{}
	for _, n := range b.names {
		s := b.steps[n]
		switch {
		case s.action.Kind == propose.Drop:
			gone[s.action.Type] = append(gone[s.action.Type], n)
		case s.half == create && s.action.Plan.Exclusive:
			made[s.action.Type] = append(made[s.action.Type], n)
		}
	}
	for typ, news := range made {
		if len(gone[typ]) == 0 {
			continue
		}
		wall := "after the drops of " + typ
		b.names = append(b.names, wall)
		b.steps[wall] = &step{name: wall, half: barrier}
		for _, d := range gone[typ] {
			edges = append(edges, graph.Edge{From: wall, To: d})
		}
		for _, n := range news {
			edges = append(edges, graph.Edge{From: n, To: wall})
		}
	}
	return edges
}

// readyHeap gives the step with the longest remaining chain first.
type readyHeap []*step

func (h readyHeap) Len() int { return len(h) }
func (h readyHeap) Less(i, j int) bool {
	if h[i].weight != h[j].weight {
		return h[i].weight > h[j].weight
	}
	return h[i].name < h[j].name
}
func (h readyHeap) Swap(i, j int) { h[i], h[j] = h[j], h[i] }
func (h *readyHeap) Push(x any)   { *h = append(*h, x.(*step)) }
func (h *readyHeap) Pop() any {
	old := *h
	x := old[len(old)-1]
	*h = old[:len(old)-1]
	return x
}

func (h *readyHeap) add(s *step) { heap.Push(h, s) }
func (h *readyHeap) take() *step { return heap.Pop(h).(*step) }
