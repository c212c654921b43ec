package render

import (
	"fmt"
	"io"
	"strings"

	"kasbah/core/chart"
	"kasbah/core/graph"
	"kasbah/core/value"
)

// GraphDocument is the JSON form of a graph. Edges lead from needs to users.
type GraphDocument struct {
	Format string        `json:"format"`
	Nodes  []*chart.Node `json:"nodes"`
	Edges  []GraphEdge   `json:"edges"`
}

// GraphEdge is one edge of a GraphDocument, by addresses with their ward.
type GraphEdge struct {
	From string `json:"from"`
	To   string `json:"to"`
	Why  string `json:"why"`
}

// Map is a chart to write.
type Map struct {
	*chart.Chart
	Graph *graph.Graph
}

// NewMap is the map of a chart.
func NewMap(c *chart.Chart) Map { return Map{c, c.Graph()} }

func (m Map) each(yield func(n int32)) {
	for n := range int32(len(m.Nodes)) {
		yield(n)
	}
}

// edges calls yield for every drawn edge: from is needed by to.
func (m Map) edges(yield func(from, to int32, why string)) {
	m.each(func(n int32) {
		for i, need := range m.Graph.Needs(n) {
			yield(need, n, m.Graph.Why(n, i))
		}
	})
}

// Document is the map's JSON form.
func (m Map) Document() GraphDocument {
	d := GraphDocument{Format: "kasbah.graph/1", Nodes: m.Nodes, Edges: []GraphEdge{}}
	m.edges(func(from, to int32, why string) {
		d.Edges = append(d.Edges, GraphEdge{m.Graph.Name(from), m.Graph.Name(to), why})
	})
	return d
}

// DOT writes the map in Graphviz's language, users pointing at what they need.
func (m Map) DOT(w io.Writer) {
	fmt.Fprintf(w, "digraph estate {\n  rankdir=LR;\n  node [shape=box, style=rounded, fontname=\"sans-serif\"];\n")
	wards := map[string][]int32{}
	m.each(func(n int32) { wards[m.Nodes[n].Ward] = append(wards[m.Nodes[n].Ward], n) })
	for _, ward := range value.Keys(wards) {
		fmt.Fprintf(w, "  subgraph %s {\n    label=%s;\n", dotText("cluster_"+ward), dotText(ward))
		for _, n := range wards[ward] {
			fmt.Fprintf(w, "    %s [label=%s];\n", dotText(m.Graph.Name(n)), dotText(m.Nodes[n].Address))
		}
		fmt.Fprintf(w, "  }\n")
	}
	m.edges(func(from, to int32, why string) {
		fmt.Fprintf(w, "  %s -> %s [label=%s];\n", dotText(m.Graph.Name(to)), dotText(m.Graph.Name(from)), dotText(why))
	})
	fmt.Fprintf(w, "}\n")
}

func dotText(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(Clean(s)) + `"`
}

// Mermaid writes the map as a Mermaid flowchart.
func (m Map) Mermaid(w io.Writer) {
	fmt.Fprintf(w, "flowchart LR\n")
	wards := map[string][]int32{}
	m.each(func(n int32) { wards[m.Nodes[n].Ward] = append(wards[m.Nodes[n].Ward], n) })
	for i, ward := range value.Keys(wards) {
		fmt.Fprintf(w, "  subgraph w%d[%s]\n", i, mermaidText(ward))
		for _, n := range wards[ward] {
			fmt.Fprintf(w, "    n%d[%s]\n", n, mermaidText(m.Nodes[n].Address))
		}
		fmt.Fprintf(w, "  end\n")
	}
	m.edges(func(from, to int32, why string) {
		fmt.Fprintf(w, "  n%d -->|%s| n%d\n", to, mermaidText(why), from)
	})
}

func mermaidText(s string) string {
	return `"` + strings.NewReplacer(`"`, "#quot;", "<", "#lt;", ">", "#gt;").Replace(Clean(s)) + `"`
}

// Tree writes the map as a tree for the terminal: what nothing needs first,
// what it needs below it. A resource that was told already is marked and not
// unfolded again, so that the tree never grows beyond the graph.
func (o *Out) Tree(m Map) {
	told := map[int32]bool{}
	edges := 0
	m.edges(func(int32, int32, string) { edges++ })
	m.each(func(n int32) {
		if len(m.Graph.Users(n)) > 0 {
			return
		}
		o.branch(m, n, "", "", 0, told)
	})
	chain, _ := m.Graph.Longest(func(int32) float64 { return 1 })
	var names []string
	for _, n := range chain {
		names = append(names, m.Graph.Name(n))
	}
	o.Printf("\n%s, %s.", Count(len(m.Nodes), "resource"), Count(edges, "need"))
	if len(names) > 1 {
		o.Printf(" Longest chain, %d deep: %s.", len(names), chainText(names))
	}
	o.Printf("\n")
}

const deepest = 60 // levels that a terminal can show

// branch writes a node and what it needs. in is the ward of what needs it.
func (o *Out) branch(m Map, n int32, in, why string, level int, told map[int32]bool) {
	node := m.Nodes[n]
	line := node.Address
	if node.Ward != in {
		line = value.InWard(node.Ward, line)
	}
	line = strings.Repeat("  ", level) + line
	if why != "" {
		line += "  by " + why
	}
	if stateClass(node.State) != "" {
		line += "  " + node.State
	}
	needs := m.Graph.Needs(n)
	again := told[n] && len(needs) > 0
	if again {
		line += "  (its needs are shown above)"
	}
	line = Clean(line)
	pos := m.Nodes[n].Position.Short()
	if space := o.Width - width(line) - width(pos); pos != "" && space >= 2 && level == 0 {
		o.Printf("%s%s%s\n", line, strings.Repeat(" ", space), o.Paint(Grey, pos))
	} else {
		o.Printf("%s\n", Fit(line, o.Width))
	}
	if again || level == deepest {
		return
	}
	told[n] = true
	for i, need := range needs {
		o.branch(m, need, node.Ward, m.Graph.Why(n, i), level+1, told)
	}
}
