package chart

import (
	"strings"

	"kasbah/core/layout"
)

// Format is the format of a drawn chart as JSON.
const Format = "kasbah.map/1"

// Drawing is a chart in the plane. Nodes and containers of the layout are those of the chart, in the same order.
type Drawing struct {
	Format string `json:"format"`
	*Chart
	Containers []Container     `json:"containers"` // the first one is the estate; each comes behind the one it is in
	Layout     *layout.Drawing `json:"layout"`
}

// Container is the estate, a ward, or an instance of a kit.
type Container struct {
	Is        ContainerKind `json:"is"`
	Label     string        `json:"label"`
	Kit       string        `json:"kit,omitempty"`
	Parent    int           `json:"in"`        // in Drawing.Containers; -1 for the estate
	Resources int           `json:"resources"` // within, at any depth
}

// ContainerKind is what a container is.
type ContainerKind string

// What a container is.
const (
	OfEstate ContainerKind = "estate"
	OfWard   ContainerKind = "ward"
	OfKit    ContainerKind = "kit"
)

// Draw lays the chart out.
func (c *Chart) Draw() *Drawing {
	d := &Drawing{Format: Format, Chart: c}
	in := layout.Input{Nodes: make([]layout.Node, len(c.Nodes)), Needs: make([]layout.Need, len(c.Needs))}
	at := map[string]int{}
	container := func(key string, one Container) int {
		i, there := at[key]
		if !there {
			i = len(d.Containers)
			at[key] = i
			d.Containers = append(d.Containers, one)
			in.Containers = append(in.Containers, layout.Container{Label: one.Label, Kind: one.Kit, Parent: one.Parent})
		}
		return i
	}
	container("", Container{Is: OfEstate, Label: c.Estate, Parent: -1})
	var key strings.Builder
	for i, n := range c.Nodes {
		key.Reset()
		key.WriteString("\x00" + n.Ward)
		k := container(key.String(), Container{Is: OfWard, Label: n.Ward})
		for _, w := range n.Within {
			key.WriteString("\x00" + w.Name)
			k = container(key.String(), Container{Is: OfKit, Label: w.Name, Kit: w.Kit, Parent: k})
		}
		if n.Is == Resource {
			for up := k; up >= 0; up = d.Containers[up].Parent {
				d.Containers[up].Resources++
			}
		}
		n.In = k
		in.Nodes[i] = layout.Node{Label: n.Name, Note: n.Type, Kind: n.Type, Parent: k}
	}
	for i, n := range c.Needs {
		in.Needs[i] = layout.Need{From: n.From, To: n.To}
	}
	d.Layout = layout.Draw(&in)
	return d
}

// With is the same drawing with other states of its nodes.
func (d *Drawing) With(state func(*Node) string) *Drawing {
	out, c := *d, *d.Chart
	c.Nodes = make([]*Node, len(d.Nodes))
	for i, n := range d.Nodes {
		now := *n
		now.State = state(n)
		c.Nodes[i] = &now
	}
	out.Chart = &c
	return &out
}
