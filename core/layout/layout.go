// Package layout draws an estate: containers within containers, resources within them, and needs that lead from left
// to right. Each container is laid out by itself, from the innermost outwards: a layered drawing after Sugiyama, Tagawa
// and Toda (1981). The same input gives the same drawing.
package layout

import (
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"
)

// Input is what is drawn.
type Input struct {
	// Containers come after those they are in; the first one is the whole, whose Parent is -1.
	Containers []Container
	Nodes      []Node
	Needs      []Need
}

// Container is a ward, an instance of a kit, or the whole.
type Container struct {
	Label  string
	Kind   string // containers of one kind in one container may be twins; "" for one that has none
	Parent int    // in Input.Containers
}

// Node is a resource, or another small thing.
type Node struct {
	Label  string // on its first line
	Note   string // on its second
	Kind   string // nodes of one kind may be twins
	Parent int    // in Input.Containers
}

// Need leads from a node to one that needs it.
type Need struct{ From, To int32 }

// Rect is a box, in pixels from the upper left corner of the drawing.
type Rect struct{ X, Y, W, H float64 }

// Point is a place in the drawing.
type Point struct{ X, Y float64 }

// Drawing is an Input in the plane.
type Drawing struct {
	Size       Rect    `json:"size"`
	Containers []Rect  `json:"containers"` // by container
	Nodes      []Rect  `json:"nodes"`      // by node
	Blocks     []Block `json:"blocks"`
	Roads      []Road  `json:"roads"`
}

// Block is a group of twins: nodes, or containers, of one kind with the same needs and users. From afar it is drawn as
// one.
type Block struct {
	Rect       Rect    `json:"rect"`
	Container  int     `json:"in"` // in Input.Containers
	Kind       string  `json:"kind"`
	Nodes      []int32 `json:"nodes,omitempty"`
	Containers []int32 `json:"containers,omitempty"`

	columns      int
	cellW, cellH float64
}

// Len is how many twins a block has.
func (b *Block) Len() int { return len(b.Nodes) + len(b.Containers) }

// Place is a container, a block or a node.
type Place struct {
	Is    PlaceKind
	Index int
}

// PlaceKind is what a place is.
type PlaceKind uint8

// What a place is.
const (
	OfContainer PlaceKind = iota
	OfBlock
	OfNode
)

// Road is what leads from one place to another of the same container: one need, or several that are drawn once.
type Road struct {
	Container int
	From, To  Place
	Needs     []int32 // that it stands for, in Input.Needs
	Path      []Point // from the right side of From to the left side of To
}

// What is between boxes, and within them, in pixels.
const (
	gapX    = 56.0 // between layers
	gapY    = 16.0 // between boxes of a layer
	padding = 18.0 // within a container
	header  = 28.0 // of a container, for its label
	nodeH   = 40.0
	rowGap  = 28.0 // between parts of a container that nothing connects
)

// unit is a part of a container, as it is laid out in it.
type unit struct {
	place Place
	w, h  float64
	x, y  float64 // in the container
	first int32   // its first node, which says where it stands in the declared order
}

// work is a drawing that is being made.
type work struct {
	in      *Input
	out     *Drawing
	inside  [][]int32 // nodes by container
	within  [][]int32 // containers by container
	units   [][]unit  // by container
	unitOf  []int32   // of a node in its container
	standIn []int32   // of a container, in the one it is in
	roads   [][]Road  // by container
	depth   []int32   // of a container
	lifted  [][]lift  // by container: needs between its units
}

// lift is the needs that lead from one unit of a container to another.
type lift struct {
	from, to int32
	needs    []int32 // in Input.Needs
}

// Draw lays out an input. Needs that form a cycle between containers are drawn against the direction of the others.
func Draw(in *Input) *Drawing {
	w := &work{in: in, out: &Drawing{Containers: make([]Rect, len(in.Containers)), Nodes: make([]Rect, len(in.Nodes)),
		Blocks: []Block{}, Roads: []Road{}},
		inside: make([][]int32, len(in.Containers)), within: make([][]int32, len(in.Containers)), units: make([][]unit, len(in.Containers)),
		unitOf: make([]int32, len(in.Nodes)), standIn: make([]int32, len(in.Containers)), roads: make([][]Road, len(in.Containers)),
		depth: make([]int32, len(in.Containers)), lifted: make([][]lift, len(in.Containers))}
	for i, c := range in.Containers {
		if c.Parent >= 0 {
			w.within[c.Parent] = append(w.within[c.Parent], int32(i))
			w.depth[i] = w.depth[c.Parent] + 1
		}
	}
	for i, n := range in.Nodes {
		w.inside[n.Parent] = append(w.inside[n.Parent], int32(i))
	}
	w.findUnits()
	w.lift()
	w.layOut()
	w.place()
	return w.out
}

// findUnits says what each container holds: containers, blocks of twins, and nodes.
func (w *work) findUnits() {
	twins, inner := w.twins(), w.twinContainers()
	first := make([]int32, len(w.in.Containers))
	for i := len(w.in.Containers) - 1; i >= 0; i-- { // the innermost first
		first[i] = int32(len(w.in.Nodes))
		for _, c := range w.within[i] {
			first[i] = min(first[i], first[c])
		}
		if len(w.inside[i]) > 0 {
			first[i] = min(first[i], w.inside[i][0])
		}
	}
	for i := range w.in.Containers {
		var units []unit
		for _, group := range inner[i] {
			if len(group) == 1 {
				units = append(units, unit{place: Place{OfContainer, int(group[0])}, first: first[group[0]]})
				continue
			}
			units = append(units, unit{place: Place{OfBlock, len(w.out.Blocks)}, first: first[group[0]]})
			w.out.Blocks = append(w.out.Blocks, Block{Container: i, Kind: w.in.Containers[group[0]].Kind, Containers: group})
		}
		for _, group := range twins[i] {
			if len(group) == 1 {
				n := w.in.Nodes[group[0]]
				units = append(units, unit{place: Place{OfNode, int(group[0])}, w: nodeWidth(&n), h: nodeH, first: group[0]})
				continue
			}
			units = append(units, unit{place: Place{OfBlock, len(w.out.Blocks)}, first: group[0]})
			w.out.Blocks = append(w.out.Blocks, Block{Container: i, Kind: w.in.Nodes[group[0]].Kind, Nodes: group})
		}
		slices.SortStableFunc(units, func(a, b unit) int { return int(a.first) - int(b.first) })
		for n, u := range units {
			switch u.place.Is {
			case OfContainer:
				w.standIn[u.place.Index] = int32(n)
			case OfBlock:
				b := &w.out.Blocks[u.place.Index]
				for _, one := range b.Nodes {
					w.unitOf[one] = int32(n)
				}
				for _, one := range b.Containers {
					w.standIn[one] = int32(n)
				}
			case OfNode:
				w.unitOf[u.place.Index] = int32(n)
			}
		}
		w.units[i] = units
	}
}

// lift finds the needs between the units of each container: each need is one between two units of the innermost
// container that holds both of its ends.
func (w *work) lift() {
	all := make([]map[[2]int32][]int32, len(w.in.Containers))
	for i, n := range w.in.Needs {
		a, b := int32(w.in.Nodes[n.From].Parent), int32(w.in.Nodes[n.To].Parent)
		from, to := w.unitOf[n.From], w.unitOf[n.To]
		for a != b {
			if w.depth[a] >= w.depth[b] {
				from, a = w.standIn[a], int32(w.in.Containers[a].Parent)
			} else {
				to, b = w.standIn[b], int32(w.in.Containers[b].Parent)
			}
		}
		if from == to {
			continue
		}
		if all[a] == nil {
			all[a] = map[[2]int32][]int32{}
		}
		all[a][[2]int32{from, to}] = append(all[a][[2]int32{from, to}], int32(i))
	}
	for c, of := range all {
		for pair, needs := range of {
			w.lifted[c] = append(w.lifted[c], lift{pair[0], pair[1], needs})
		}
		slices.SortFunc(w.lifted[c], func(x, y lift) int {
			if x.from != y.from {
				return int(x.from - y.from)
			}
			return int(x.to - y.to)
		})
	}
}

// layOut lays out every container, the innermost first: those of one depth at once.
func (w *work) layOut() {
	byDepth := [][]int{}
	for i, d := range w.depth {
		for int(d) >= len(byDepth) {
			byDepth = append(byDepth, nil)
		}
		byDepth[d] = append(byDepth[d], i)
	}
	for d := len(byDepth) - 1; d >= 0; d-- {
		var g errgroup.Group
		g.SetLimit(runtime.GOMAXPROCS(0))
		for _, c := range byDepth[d] {
			g.Go(func() error {
				w.container(c)
				return nil
			})
		}
		_ = g.Wait() // none returns an error
	}
}

// container lays out one container, whose inner ones have their sizes.
func (w *work) container(c int) {
	units := w.units[c]
	for i := range units {
		switch u := &units[i]; u.place.Is {
		case OfContainer:
			r := w.out.Containers[u.place.Index]
			u.w, u.h = r.W, r.H
		case OfBlock:
			u.w, u.h = w.grid(&w.out.Blocks[u.place.Index])
		}
	}
	width, height := 0.0, 0.0
	if len(units) > 0 {
		width, height, w.roads[c] = arrange(c, units, w.lifted[c])
	}
	w.out.Containers[c].W = max(width, BoldWidth(w.in.Containers[c].Label, labelSize)) + 2*padding
	w.out.Containers[c].H = height + header + padding
	if len(units) == 0 {
		w.out.Containers[c].H = header + padding
	}
}

// place turns places within containers into places in the drawing, the outermost first.
func (w *work) place() {
	for c := range w.in.Containers {
		at := w.out.Containers[c]
		x0, y0 := at.X+padding, at.Y+header
		for _, u := range w.units[c] {
			r := Rect{x0 + u.x, y0 + u.y, u.w, u.h}
			switch u.place.Is {
			case OfContainer:
				w.out.Containers[u.place.Index].X, w.out.Containers[u.place.Index].Y = r.X, r.Y
			case OfBlock:
				b := &w.out.Blocks[u.place.Index]
				b.Rect = r
				w.fill(b)
			case OfNode:
				w.out.Nodes[u.place.Index] = r
			}
		}
		for _, road := range w.roads[c] {
			for i := range road.Path {
				road.Path[i].X += x0
				road.Path[i].Y += y0
			}
			w.out.Roads = append(w.out.Roads, road)
		}
	}
	w.out.Size = w.out.Containers[0]
}
