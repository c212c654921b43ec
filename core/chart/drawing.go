package chart

import (
	"encoding/json"
	"strings"
	"time"

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

// packed is the JSON form of a node in a drawing, of which there may be very many: what repeats is a number of Texts.
type packed struct {
	Ward    Text       `json:"ward"`
	Address string     `json:"address"`
	Type    Text       `json:"type"`
	At      [2]int     `json:"at"` // file, as a Text, and line
	Is      Is         `json:"is,omitempty"`
	Within  []Instance `json:"within,omitempty"`
	State   Text       `json:"state,omitempty"`
	Because Text       `json:"because,omitempty"`
	Values  []Value    `json:"values,omitempty"`
	ID      string     `json:"id,omitempty"`
	Price   *float64   `json:"price,omitempty"`
	Care    []string   `json:"care,omitempty"`
	Run     Text       `json:"run,omitempty"`
	Changed Text       `json:"changed,omitempty"`
}

// MarshalJSON writes kasbah.map/1.
func (d *Drawing) MarshalJSON() ([]byte, error) {
	type plain Drawing
	out := struct {
		*plain
		Nodes []packed `json:"nodes"`
		Texts []string `json:"texts"`
	}{plain: (*plain)(d), Nodes: make([]packed, len(d.Nodes))}
	for i, n := range d.Nodes {
		p := &out.Nodes[i]
		*p = packed{Ward: d.text(n.Ward), Address: n.Address, Type: d.text(n.Type), At: [2]int{int(d.text(n.Position.File)), n.Position.Line},
			Is: n.Is, Within: n.Within, State: d.text(n.State), Because: d.text(n.Because)}
		if f := n.Facts; f != nil {
			p.Values, p.ID, p.Price, p.Care, p.Run = f.Values, f.ID, f.Price, f.Care, d.text(f.Run)
			if f.Changed != nil {
				p.Changed = d.text(f.Changed.Format(time.RFC3339))
			}
		}
	}
	out.Texts = d.Texts
	return json.Marshal(out)
}
