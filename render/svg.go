package render

import (
	"fmt"
	"html"
	"strings"

	"kasbah/core/layout"
)

// Depth is how much of a map is drawn.
type Depth string

// Depths of a map, each with what those before it show.
const (
	DepthWard     Depth = "ward"
	DepthKit      Depth = "kit"
	DepthResource Depth = "resource"
)

// Depths lists them.
func Depths() []string { return []string{string(DepthWard), string(DepthKit), string(DepthResource)} }

// mapIn is a map as it is laid out, with what stands for what.
type mapIn struct {
	layout.Input
	nodes []int32 // of the graph, by node of the input
	kinds []Depth // by container: DepthWard or DepthKit; "" for the whole
	sizes []int   // by container: resources within
}

// input is the map as it is laid out: the estate, its wards, instances of kits, resources.
func (m Map) input(estate string) *mapIn {
	in := &mapIn{Input: layout.Input{Containers: []layout.Container{{Label: estate, Parent: -1}}}, kinds: []Depth{""}, sizes: []int{0}}
	at := map[string]int{}
	container := func(key, label, kit string, parent int, kind Depth) int {
		c, there := at[key]
		if !there {
			c = len(in.Containers)
			at[key] = c
			in.Containers = append(in.Containers, layout.Container{Label: label, Kind: kit, Parent: parent})
			in.kinds, in.sizes = append(in.kinds, kind), append(in.sizes, 0)
		}
		return c
	}
	local := make([]int32, m.Graph.Len())
	m.each(func(n int32) {
		node := m.Nodes[n]
		key := node.Ward
		c := container(key, node.Ward, "", 0, DepthWard)
		for _, within := range node.Within {
			key += "\x00" + within.Name
			c = container(key, within.Name, within.Kit, c, DepthKit)
		}
		for k := c; k >= 0; k = in.Containers[k].Parent {
			in.sizes[k]++
		}
		local[n] = int32(len(in.Nodes))
		in.nodes = append(in.nodes, n)
		in.Nodes = append(in.Nodes, layout.Node{Label: Clean(node.Name), Note: node.Type, Kind: node.Type, Parent: c})
	})
	m.edges(func(from, to int32, _ string) {
		in.Needs = append(in.Needs, layout.Need{From: local[from], To: local[to]})
	})
	return in
}

// fitting is the depth at which an SVG is still readable: everything up to some resources, then less.
func (m *mapIn) fitting() Depth {
	switch n := len(m.Nodes); {
	case n <= 300:
		return DepthResource
	case len(m.Containers) <= 300:
		return DepthKit
	}
	return DepthWard
}

const svgStyle = `svg{--ink:#1d2327;--soft:#5c666e;--paper:#fbfbf8;--line:#c9cdc8;--card:#fff;--town:#f2f4ef;--quarter:#e9eef2;--road:#8a969e;font-family:system-ui,"Segoe UI","DejaVu Sans",Verdana,sans-serif}` +
	`@media(prefers-color-scheme:dark){svg{--ink:#e4e7e6;--soft:#9aa4a8;--paper:#15191b;--line:#3c464b;--card:#20272b;--town:#1a2023;--quarter:#1d262c;--road:#6d7a82}}` +
	`.paper{fill:var(--paper)}.ward{fill:var(--town);stroke:var(--line)}.kit{fill:var(--quarter);stroke:var(--line)}.node{fill:var(--card);stroke:var(--line)}.block{fill:none;stroke:var(--line);stroke-dasharray:4 3}` +
	`text{fill:var(--ink)}.soft{fill:var(--soft)}.road{fill:none;stroke:var(--road);stroke-width:1.3;marker-end:url(#end)}marker path{fill:var(--road)}`

// SVG draws the map to a depth, or to the one that fits for "". It needs nothing else, and runs nothing.
func (m Map) SVG(estate string, depth Depth) []byte {
	in := m.input(estate)
	if depth == "" {
		depth = in.fitting()
	}
	d := layout.Draw(&in.Input)
	w := &svg{}
	w.put(`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %.0f %.0f" width="%.0f" height="%.0f" role="img" aria-label="%s">`+"\n",
		d.Size.W, d.Size.H, d.Size.W, d.Size.H, svgText(fmt.Sprintf("%s: %s", estate, Count(len(in.Nodes), "resource"))))
	w.put("<style>%s</style>\n<rect class=\"paper\" width=\"100%%\" height=\"100%%\"/>\n", raw(svgStyle))
	w.put(`<defs><marker id="end" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto"><path d="M0 1L7 4L0 7z"/></marker></defs>` + "\n")
	w.put("<text x=\"18\" y=\"20\" font-size=\"13\" font-weight=\"600\">%s</text>\n", svgText(estate))
	shown := func(c int) bool { return in.kinds[c] == DepthWard || in.kinds[c] == DepthKit && depth != DepthWard }
	leaf := func(c int) bool { // drawn, and nothing in it is
		return shown(c) && depth != DepthResource && (depth == DepthWard || !in.hasKits(c))
	}
	blocks := make([][]layout.Block, len(in.Containers))
	for _, b := range d.Blocks {
		if depth == DepthResource || b.Containers != nil && depth == DepthKit {
			blocks[b.Container] = append(blocks[b.Container], b)
		}
	}
	for c := range in.Containers { // what lies in one comes behind it
		if shown(c) {
			w.container(d.Containers[c], in, c, leaf(c))
		}
		for _, b := range blocks[c] {
			w.block(b)
		}
	}
	place := func(p layout.Place) bool {
		return p.Is == layout.OfContainer && shown(p.Index) || p.Is == layout.OfBlock && depth == DepthKit && d.Blocks[p.Index].Containers != nil
	}
	for _, r := range d.Roads {
		if depth == DepthResource || place(r.From) && place(r.To) {
			w.road(r)
		}
	}
	if depth == DepthResource {
		for i, r := range d.Nodes {
			w.node(r, m.Nodes[in.nodes[i]])
		}
	}
	w.put("</svg>\n")
	return []byte(w.String())
}

// hasKits reports whether instances of kits are in a container.
func (m *mapIn) hasKits(c int) bool {
	for _, o := range m.Containers {
		if o.Parent == c {
			return true
		}
	}
	return false
}

// svg is a drawing being written. What comes from code or a cloud is a text in it, never markup.
type svg struct{ strings.Builder }

// raw is markup of our own.
type raw string

func svgText(s string) raw { return raw(html.EscapeString(Clean(s))) }

func (w *svg) put(form string, args ...any) { fmt.Fprintf(w, form, args...) }

// block draws what is around twins.
func (w *svg) block(b layout.Block) {
	label := fmt.Sprintf("%d %s", b.Len(), b.Kind)
	w.put(`<g><title>%s</title><rect class="block" x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="6"/><text class="soft" x="%.1f" y="%.1f" font-size="11">%s</text></g>`+"\n",
		svgText(label+" with the same needs"), b.X, b.Y, b.W, b.H, b.X+10, b.Y+18, svgText(layout.Fit(label, 11, b.W-20)))
}

// container draws a ward or an instance; with its name in the middle where nothing else is drawn in it.
func (w *svg) container(r layout.Rect, in *mapIn, c int, alone bool) {
	label, size := in.Containers[c].Label, 13.0
	note := Count(in.sizes[c], "resource")
	w.put(`<g><title>%s</title><rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="8"/>`, svgText(label+": "+note), string(in.kinds[c]), r.X, r.Y, r.W, r.H)
	if alone {
		size = max(13, min(r.H/4, (r.W-20)/max(1, layout.TextWidth(label, 1)), (r.W-20)/layout.TextWidth(note, 0.6)))
		w.put(`<text x="%.1f" y="%.1f" font-size="%.1f" font-weight="600" text-anchor="middle">%s</text>`, r.X+r.W/2, r.Y+r.H/2, size, svgText(layout.Fit(label, size, r.W-16)))
		w.put(`<text class="soft" x="%.1f" y="%.1f" font-size="%.1f" text-anchor="middle">%s</text></g>`+"\n", r.X+r.W/2, r.Y+r.H/2+size*1.1, size*0.6, svgText(layout.Fit(note, size*0.6, r.W-16)))
		return
	}
	w.put(`<text x="%.1f" y="%.1f" font-size="13" font-weight="600">%s</text>`, r.X+12, r.Y+19, svgText(layout.Fit(label, 13, r.W-24)))
	if x := layout.TextWidth(label, 13) + 24; r.W-x-12 > layout.TextWidth(note, 11) {
		w.put(`<text class="soft" x="%.1f" y="%.1f" font-size="11" text-anchor="end">%s</text>`, r.X+r.W-12, r.Y+19, svgText(note))
	}
	w.put("</g>\n")
}

func (w *svg) node(r layout.Rect, n Node) {
	title := n.Ward + ":" + n.Address
	if at := n.Position.Short(); at != "" {
		title += " (" + at + ")"
	}
	w.put(`<g><title>%s</title><rect class="node" x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="5"/><text x="%.1f" y="%.1f" font-size="13">%s</text><text class="soft" x="%.1f" y="%.1f" font-size="11">%s</text></g>`+"\n",
		svgText(title), r.X, r.Y, r.W, r.H, r.X+10, r.Y+17, svgText(layout.Fit(n.Name, 13, r.W-20)), r.X+10, r.Y+32, svgText(layout.Fit(n.Type, 11, r.W-20)))
}

// road draws a need, or several: from right to left sides in curves, straight through the layers that it passes.
func (w *svg) road(r layout.Road) {
	var path strings.Builder
	fmt.Fprintf(&path, "M%.1f %.1f", r.Path[0].X, r.Path[0].Y)
	for i := 1; i < len(r.Path); i++ {
		a, b := r.Path[i-1], r.Path[i]
		if a.Y == b.Y {
			fmt.Fprintf(&path, "H%.1f", b.X)
			continue
		}
		middle := (a.X + b.X) / 2
		fmt.Fprintf(&path, "C%.1f %.1f %.1f %.1f %.1f %.1f", middle, a.Y, middle, b.Y, b.X, b.Y)
	}
	w.put(`<g><title>%s</title><path class="road" d="%s"/>`, svgText(Count(r.Needs, "need")), raw(path.String()))
	if r.Needs > 1 {
		end := r.Path[len(r.Path)-1]
		w.put(`<text class="soft" x="%.1f" y="%.1f" font-size="11" text-anchor="end">%d</text>`, end.X-10, end.Y-4, r.Needs)
	}
	w.put("</g>\n")
}
