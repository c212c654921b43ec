package propose

import (
	"kasbah/core/graph"
	"kasbah/core/ledger"
)

// Forecast says what carrying out will take.
type Forecast struct {
	// Seconds is the time it takes, by what the ledger has seen calls take;
	// nil when it has seen none of the kind.
	Seconds *float64 `json:"seconds"`
	// Unknown counts the changing actions of which no call of their kind was seen
	// yet: they count as no time. A call that was not seen counts as none beside
	// one that was.
	Unknown int      `json:"unknown,omitempty"`
	Chain   []string `json:"chain"` // the longest chain of changing actions, first to last
}

// atOnce is how many calls go on at once when nobody says otherwise.
const atOnce = 16

// shortest stands for a call that takes no time, so that of two chains that
// take as long the deeper one is told.
const shortest = 1e-6

// calls are the calls to the cloud that an action makes.
func (a *Action) calls() []string {
	switch a.Kind {
	case New:
		return []string{"create"}
	case Edit:
		return []string{"update"}
	case Drop, Swap:
		var out []string
		if a.Remakes() {
			out = append(out, "create")
		}
		if a.Plan.CopyFirst {
			out = append(out, ledger.CallCopy)
		}
		return append(out, "delete")
	}
	return nil
}

// forecast estimates every changing action, and the whole of them.
func (w *proposer) forecast() Forecast {
	out := Forecast{Chain: []string{}}
	var names []string
	var edges []graph.Edge
	var work float64
	known := 0
	for _, a := range w.p.Actions {
		if a.Kind == Same || a.Kind == Adopt {
			continue
		}
		names = append(names, a.Full())
		for _, n := range a.Needs {
			edges = append(edges, graph.Edge{From: a.Full(), To: n})
		}
		seen := len(a.calls()) == 0
		for _, call := range a.calls() {
			d, ok := w.duration(a, call)
			seen = seen || ok // of a swap, one half is better than none
			a.Seconds += d
		}
		if seen {
			known++
		} else {
			out.Unknown++
		}
		work += a.Seconds
	}
	g := graph.New(names, edges)
	nodes, longest := g.Longest(func(n int32) float64 { return w.decided(g.Name(n)).Seconds + shortest })
	for _, n := range nodes {
		out.Chain = append(out.Chain, g.Name(n))
	}
	if work > 0 || known > 0 && out.Unknown == 0 {
		seconds := max(longest, work/atOnce)
		out.Seconds = &seconds
	}
	return out
}

// duration is what such a call took: in the ward's own ledger, or in that of
// another ward of the proposal.
func (w *proposer) duration(a *Action, call string) (float64, bool) {
	key := ledger.DurationKey(a.Type, call)
	if d, ok := w.o.States[a.Ward].Durations[key]; ok {
		return d.Mean, true
	}
	for _, ward := range w.o.Wards {
		if d, ok := w.o.States[ward].Durations[key]; ok {
			return d.Mean, true
		}
	}
	return 0, false
}
