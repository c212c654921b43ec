// Package chart is what a map shows: the resources of an estate as they are declared, recorded, live or proposed, what
// each of them needs, and what is known of each.
package chart

import (
	"cmp"
	"encoding/json"
	"math"
	"slices"
	"strings"
	"time"

	"kasbah/core/declare"
	"kasbah/core/graph"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// At says what a chart shows.
type At string

// What a chart can show.
const (
	Declared At = "declared" // what the code says
	Recorded At = "recorded" // what the ledgers say
	Live     At = "live"     // what the ledgers say, and how the clouds differ from it
	Proposed At = "proposed" // what would be done
)

// Ats lists what a chart can show.
func Ats() []string {
	return []string{string(Declared), string(Recorded), string(Live), string(Proposed)}
}

// Chart is a graph with what is known of its nodes.
type Chart struct {
	Estate   string  `json:"estate"`
	Env      string  `json:"env"`
	At       At      `json:"at"`
	Currency string  `json:"currency,omitempty"`
	Nodes    []*Node `json:"nodes"` // by ward, in the declared order where one is known
	Needs    []Need  `json:"needs"` // by user
	// Texts are what Value names by number, each once; the first one is empty, and says that nothing is known.
	Texts []string `json:"-"`

	index map[string]int32 // by address with its ward
	known map[string]Text  // of Texts
}

// Node is a resource, or what decides or offers a value.
type Node struct {
	Ward     string           `json:"ward"`
	Address  string           `json:"address"` // without its ward
	Type     string           `json:"type"`    // with its driver; "input", "published" or "find" for what is not a resource
	Position problem.Position `json:"position"`
	Is       Is               `json:"is,omitempty"` // "" for a resource
	Name     string           `json:"-"`            // the last part of the address
	Within   []Instance       `json:"within,omitempty"`
	State    string           `json:"state,omitempty"`   // an action of a proposal, or a verdict of a survey
	Because  string           `json:"because,omitempty"` // of it
	In       int              `json:"-"`                 // once it is drawn: in Drawing.Containers
	*Facts   `json:"-"`
}

// Is is what a node is.
type Is string

// What a node is.
const (
	Resource  Is = ""
	Input     Is = "input"     // decides attributes of resources
	Published Is = "published" // is offered to other wards
	Find      Is = "find"      // exists, and is not managed here
)

// Instance is an instance of a kit.
type Instance struct {
	Name string `json:"name"`
	Kit  string `json:"kit,omitempty"` // "" where it is not known
}

// Facts are what a page shows of a node when it is opened.
type Facts struct {
	Values  []Value
	ID      string   // in the cloud
	Price   *float64 // a month; nil where it is not known
	Care    []string // phrases
	Run     string   // that changed it last
	Changed *time.Time
}

// Text is a text by its number in Chart.Texts; 0 where nothing is known.
type Text int32

// Value is an attribute as text: what is declared, recorded, live and proposed. A secret is its name at most.
type Value struct {
	Path     Text
	Declared Text
	Recorded Text
	Live     Text
	Proposed Text
	Differs  bool // it changes, or has drifted
	Secret   bool
}

// MarshalJSON writes [path, declared, recorded, live, proposed, differs] without the zeros at its end; differs is 1
// or 0.
func (v Value) MarshalJSON() ([]byte, error) {
	differs := Text(0)
	if v.Differs {
		differs = 1
	}
	all := []Text{v.Path, v.Declared, v.Recorded, v.Live, v.Proposed, differs}
	for all[len(all)-1] == 0 {
		all = all[:len(all)-1]
	}
	return json.Marshal(all)
}

// Need leads from what is needed to what needs it.
type Need struct {
	From int32  // in Chart.Nodes
	To   int32  // in Chart.Nodes
	Why  string // the attribute that uses it, or "after"; "" where it is not known
}

// MarshalJSON writes [from, to, why].
func (n Need) MarshalJSON() ([]byte, error) { return json.Marshal([]any{n.From, n.To, n.Why}) }

// Full is the address with its ward.
func (n *Node) Full() string { return value.InWard(n.Ward, n.Address) }

func newChart(estate, env string, at At) *Chart {
	return &Chart{Estate: estate, Env: env, At: at, Nodes: []*Node{}, Needs: []Need{}, Texts: []string{""}, index: map[string]int32{}, known: map[string]Text{"": 0}}
}

// text is the number of a text.
func (c *Chart) text(s string) Text {
	if c.known == nil { // of a chart that was put together elsewhere
		c.Texts, c.known = []string{""}, map[string]Text{"": 0}
	}
	n, there := c.known[s]
	if !there {
		n = Text(len(c.Texts))
		c.known[s] = n
		c.Texts = append(c.Texts, s)
	}
	return n
}

// add adds a node, unless there is one with its address, which is returned then.
func (c *Chart) add(n *Node) *Node {
	full := n.Full()
	if i, there := c.index[full]; there {
		return c.Nodes[i]
	}
	c.index[full] = int32(len(c.Nodes))
	c.Nodes = append(c.Nodes, n)
	return n
}

// need notes that to needs from, both by their addresses with wards. What is not shown is left out.
func (c *Chart) need(from, to, why string) {
	f, known := c.index[from]
	t, there := c.index[to]
	if known && there && f != t {
		c.Needs = append(c.Needs, Need{f, t, why})
	}
}

// Find is the node with an address and its ward; nil for none.
func (c *Chart) Find(full string) *Node {
	if i, there := c.index[full]; there {
		return c.Nodes[i]
	}
	return nil
}

// sort brings nodes into the declared order, so that a map keeps its shape whatever it shows. What is not declared
// comes behind the rest of its ward, and everything is in the order of places in files where d is nil. It is called
// before needs are noted.
func (c *Chart) sort(d *declare.Declared) {
	wards, places := map[string]int{}, make(map[string]int, len(c.Nodes))
	if d != nil {
		for i, r := range d.Resources {
			if _, there := wards[r.Ward]; !there {
				wards[r.Ward] = i
			}
			places[r.Full()] = i
		}
	}
	rank := func(of map[string]int, key string) int {
		if i, there := of[key]; there {
			return i
		}
		return math.MaxInt
	}
	unplaced := func(n *Node) int {
		if n.Position.File == "" {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(c.Nodes, func(a, b *Node) int {
		return cmp.Or(cmp.Compare(rank(wards, a.Ward), rank(wards, b.Ward)), strings.Compare(a.Ward, b.Ward),
			cmp.Compare(rank(places, a.Full()), rank(places, b.Full())), cmp.Compare(unplaced(a), unplaced(b)),
			strings.Compare(a.Position.File, b.Position.File), cmp.Compare(a.Position.Line, b.Position.Line), strings.Compare(a.Address, b.Address))
	})
	for i, n := range c.Nodes {
		c.index[n.Full()] = int32(i)
	}
}

// Graph is the graph of the nodes, which it numbers as Nodes does.
func (c *Chart) Graph() *graph.Graph {
	names := make([]string, len(c.Nodes))
	for i, n := range c.Nodes {
		names[i] = n.Full()
	}
	edges := make([]graph.Edge, len(c.Needs))
	for i, n := range c.Needs {
		edges[i] = graph.Edge{From: names[n.To], To: names[n.From], Why: n.Why}
	}
	return graph.New(names, edges)
}

// Keep drops the nodes for which in is false, and their needs.
func (c *Chart) Keep(in []bool) {
	if !slices.Contains(in, false) {
		return
	}
	now := make([]int32, len(in))
	kept := make([]*Node, 0, len(in))
	c.index = map[string]int32{}
	for i, n := range c.Nodes {
		if in[i] {
			now[i] = int32(len(kept))
			c.index[n.Full()] = now[i]
			kept = append(kept, n)
		}
	}
	needs := c.Needs[:0]
	for _, n := range c.Needs {
		if in[n.From] && in[n.To] {
			needs = append(needs, Need{now[n.From], now[n.To], n.Why})
		}
	}
	c.Nodes, c.Needs = kept, needs
}

// within reads instances of kits out of an address: `west/medina.machine/gate`. kit is that of the outermost.
func within(address, kit string) (in []Instance, name string) {
	for {
		part, rest, more := strings.Cut(address, "/")
		switch {
		case !more:
			return in, part
		case strings.Contains(part, "."): // a type
			return in, rest
		}
		in, address, kit = append(in, Instance{part, kit}), rest, ""
	}
}
