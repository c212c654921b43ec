package render

import (
	"fmt"
	"html"
	"strings"

	"kasbah/core/chart"
	"kasbah/core/layout"
	"kasbah/core/value"
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

// SVGOptions say how a map is drawn.
type SVGOptions struct {
	Depth Depth // "" for the one at which it is still readable
	// Link is where a node leads to in a page; nil for a picture on its own, which has its style with it.
	Link func(node int) string
}

// fitting is the depth at which a drawing is still readable: everything where it is not too large, then less. A page
// can be moved in its frame.
func fitting(d *chart.Drawing, inPage bool) Depth {
	size, readable := d.Layout.Size, 300
	if inPage {
		readable = 1000
	}
	switch {
	case inPage && len(d.Nodes) <= readable, !inPage && max(size.W, size.H) <= 3000:
		return DepthResource
	case len(d.Containers) <= readable:
		return DepthKit
	}
	return DepthWard
}

// stateClass is how a page marks an action or a verdict; "" for one that needs no look.
func stateClass(state string) string {
	switch state {
	case "", "same", "matches":
		return ""
	case "gone", "broken":
		return "drop"
	case "differs":
		return "edit"
	case "new", "edit", "swap", "drop", "adopt":
		return state
	}
	return "other"
}

// SVGStyle is the style of maps, on their own and in pages whose root may be of the class light or dark.
const SVGStyle = `.map{` + svgLight + `font-family:system-ui,"Segoe UI","DejaVu Sans",Verdana,sans-serif}@media(prefers-color-scheme:dark){:root:not(.light) .map,svg.map:root{` + svgDark + `}}:root.dark .map{` + svgDark + `}` +
	`.map .paper{fill:var(--paper)}.map .ward{fill:var(--town);stroke:var(--line)}.map .kit{fill:var(--quarter);stroke:var(--line)}` +
	`.map .node{fill:var(--card);stroke:var(--line)}.map .find,.map .input,.map .published{fill:var(--town);stroke:var(--road);stroke-dasharray:5 3}.map .block{fill:none;stroke:var(--line);stroke-dasharray:2 3}` +
	`.map text{fill:var(--ink)}.map .soft{fill:var(--soft)}.map .road{fill:none;stroke:var(--road);stroke-width:1.3}.map marker path{fill:var(--road)}` +
	`.map .s-new{fill:var(--new)}.map .s-edit{fill:var(--edit)}.map .s-swap{fill:var(--swap)}.map .s-drop{fill:var(--drop)}.map .s-adopt{fill:var(--adopt)}.map .s-other{fill:var(--other)}.map text[class^=s-]{font-weight:600}` +
	`.map .number{stroke:var(--paper);stroke-width:4px;paint-order:stroke}.map a:hover .node,.map a:focus .node{stroke:var(--ink)}`

const svgLight = `--ink:#1d2327;--soft:#5c666e;--paper:#fbfbf8;--line:#c9cdc8;--card:#fff;--town:#f2f4ef;--quarter:#e9eef2;--road:#8a969e;` +
	`--new:#005d94;--edit:#8a5f00;--swap:#9c3f75;--drop:#b34700;--adopt:#00704f;--other:#5c666e;`

const svgDark = `--ink:#e4e7e6;--soft:#9aa4a8;--paper:#15191b;--line:#3c464b;--card:#20272b;--town:#1a2023;--quarter:#1d262c;--road:#6d7a82;` +
	`--new:#56b4e9;--edit:#e69f00;--swap:#e39ac4;--drop:#ff8a4c;--adopt:#2fc79a;--other:#9aa4a8;`

// SVG draws a map. It needs nothing else, and runs nothing.
func SVG(d *chart.Drawing, o SVGOptions) []byte {
	outer := o.Depth == "" // what is too large shows no instances within instances
	if outer {
		o.Depth = fitting(d, o.Link != nil)
	}
	w := &svg{d: d, o: o, outer: outer, kits: make([]bool, len(d.Containers)), states: make([]map[string]int, len(d.Containers))}
	w.count()
	size := d.Layout.Size
	scale := 1.0
	if o.Link != nil { // a page has other things to show
		scale = min(1, max(0.6, 1150/size.W))
	}
	name := raw(` xmlns="http://www.w3.org/2000/svg"`)
	if o.Link != nil { // HTML knows what it is
		name = ""
	}
	w.put(`<svg%s class="map" viewBox="0 0 %.0f %.0f" width="%.0f" height="%.0f" role="%s" aria-label="%s">`+"\n",
		name, size.W, size.H, size.W*scale, size.H*scale, map[bool]raw{true: "img", false: "group"}[o.Link == nil],
		svgText(fmt.Sprintf("%s: %s", d.Estate, Count(d.Containers[0].Resources, "resource"))))
	if o.Link == nil {
		w.put("<style>%s</style>\n", raw(SVGStyle))
	}
	w.put("<rect class=\"paper\" width=\"100%%\" height=\"100%%\"/>\n")
	w.put(`<defs><marker id="end" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto"><path d="M0 1L7 4L0 7z"/></marker></defs>` + "\n")
	w.put("<text x=\"18\" y=\"20\" font-size=\"13\" font-weight=\"600\">%s</text>\n", svgText(layout.FitBold(d.Estate+shownAs(d.Chart), 13, size.W-36)))
	w.all()
	w.put("</svg>\n")
	return []byte(w.String())
}

// svg is a drawing being written. What comes from code or a cloud is a text in it, never markup.
type svg struct {
	strings.Builder
	d      *chart.Drawing
	o      SVGOptions
	outer  bool             // of instances of kits, only the outermost are drawn
	kits   []bool           // by container: instances of kits are in it
	states []map[string]int // by container: what is to be looked at
}

// raw is markup of our own.
type raw string

func svgText(s string) raw { return raw(html.EscapeString(Clean(s))) }

func (w *svg) put(form string, args ...any) { fmt.Fprintf(w, form, args...) }

// count counts the states of what each container holds.
func (w *svg) count() {
	for _, c := range w.d.Containers {
		if c.Parent >= 0 && c.Is == chart.OfKit {
			w.kits[c.Parent] = true
		}
	}
	for _, n := range w.d.Nodes {
		if stateClass(n.State) == "" {
			continue
		}
		for c := n.In; c >= 0; c = w.d.Containers[c].Parent {
			if w.states[c] == nil {
				w.states[c] = map[string]int{}
			}
			w.states[c][n.State]++
		}
	}
}

func (w *svg) shown(c int) bool {
	in := &w.d.Containers[c]
	switch {
	case in.Is != chart.OfKit:
		return in.Is == chart.OfWard
	case w.o.Depth == DepthKit && w.outer:
		return w.d.Containers[in.Parent].Is == chart.OfWard
	}
	return w.o.Depth != DepthWard
}

// alone reports whether nothing is drawn in a container.
func (w *svg) alone(c int) bool {
	switch w.o.Depth {
	case DepthWard:
		return true
	case DepthKit:
		return !w.kits[c] || w.outer && w.d.Containers[c].Is == chart.OfKit
	}
	return false
}

func (w *svg) all() {
	d, depth := w.d, w.o.Depth
	blocks := make([][]layout.Block, len(d.Containers))
	for _, b := range d.Layout.Blocks {
		if depth == DepthResource || b.Containers != nil && depth == DepthKit {
			blocks[b.Container] = append(blocks[b.Container], b)
		}
	}
	for c := range d.Containers { // what lies in one comes behind it
		if w.shown(c) {
			w.container(c, w.alone(c))
		}
		for _, b := range blocks[c] {
			if !w.alone(c) {
				w.block(b)
			}
		}
	}
	place := func(p layout.Place) bool {
		return p.Is == layout.OfContainer && w.shown(p.Index) || p.Is == layout.OfBlock && depth == DepthKit && d.Layout.Blocks[p.Index].Containers != nil
	}
	for _, r := range d.Layout.Roads {
		if depth == DepthResource || place(r.From) && place(r.To) {
			w.road(r)
		}
	}
	if depth == DepthResource {
		for i, r := range d.Layout.Nodes {
			w.node(r, i)
		}
	}
}

// block draws what is around twins.
func (w *svg) block(b layout.Block) {
	label, r := fmt.Sprintf("%d %s", b.Len(), b.Kind), b.Rect
	w.put(`<g><title>%s</title><rect class="block" x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="6"/><text class="soft" x="%.1f" y="%.1f" font-size="11">%s</text></g>`+"\n",
		svgText(label+" with the same needs"), r.X, r.Y, r.W, r.H, r.X+10, r.Y+18, svgText(layout.Fit(label, 11, r.W-20)))
}

// container draws a ward or an instance; with its name in the middle where nothing else is drawn in it.
func (w *svg) container(c int, alone bool) {
	r, in := w.d.Layout.Containers[c], &w.d.Containers[c]
	label, size := in.Label, 13.0
	note := Count(in.Resources, "resource")
	w.put(`<g><title>%s</title><rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="8"/>`, svgText(label+": "+strings.Join(append([]string{note},
		w.told(c)...), ", ")), string(in.Is), r.X, r.Y, r.W, r.H)
	if alone {
		size = max(13, min(r.H/4, (r.W-20)/max(1, layout.BoldWidth(label, 1)), (r.W-20)/layout.TextWidth(note, 0.6)))
		w.put(`<text x="%.1f" y="%.1f" font-size="%.1f" font-weight="600" text-anchor="middle">%s</text>`, r.X+r.W/2, r.Y+r.H/2, size, svgText(layout.FitBold(label, size, r.W-16)))
		w.put(`<text class="soft" x="%.1f" y="%.1f" font-size="%.1f" text-anchor="middle">%s</text>`, r.X+r.W/2, r.Y+r.H/2+size*1.1, size*0.6, svgText(layout.Fit(note, size*0.6, r.W-16)))
		y := r.Y + r.H/2 + size*1.1
		for _, state := range value.Keys(w.states[c]) {
			if y += size * 0.8; y+size*0.2 < r.Y+r.H {
				w.put(`<text class="s-%s" x="%.1f" y="%.1f" font-size="%.1f" text-anchor="middle">%s</text>`, stateClass(state), r.X+r.W/2, y, size*0.6,
					svgText(layout.FitBold(fmt.Sprintf("%d %s", w.states[c][state], state), size*0.6, r.W-16)))
			}
		}
		w.put("</g>\n")
		return
	}
	if w.o.Depth != DepthResource { // of a large picture
		size = 18
	}
	w.put(`<text x="%.1f" y="%.1f" font-size="%.0f" font-weight="600">%s</text>`, r.X+12, r.Y+20, size, svgText(layout.FitBold(label, size, r.W-24)))
	x := r.X + r.W - 12
	room := r.W - layout.BoldWidth(label, size) - 36
	for _, state := range value.Keys(w.states[c]) {
		text := fmt.Sprintf("%d %s", w.states[c][state], state)
		if room -= layout.BoldWidth(text, 11) + 10; room < 0 {
			break
		}
		w.put(`<text class="s-%s" x="%.1f" y="%.1f" font-size="11" text-anchor="end">%s</text>`, stateClass(state), x, r.Y+19, svgText(text))
		x -= layout.BoldWidth(text, 11) + 10
	}
	if room > layout.TextWidth(note, 11) {
		w.put(`<text class="soft" x="%.1f" y="%.1f" font-size="11" text-anchor="end">%s</text>`, x, r.Y+19, svgText(note))
	}
	w.put("</g>\n")
}

// told are the states in a container, each with its number.
func (w *svg) told(c int) (out []string) {
	for _, state := range value.Keys(w.states[c]) {
		out = append(out, fmt.Sprintf("%d %s", w.states[c][state], state))
	}
	return out
}

func (w *svg) node(r layout.Rect, i int) {
	n := w.d.Nodes[i]
	title, class := n.Full(), "node"
	if n.Is != chart.Resource {
		class = string(n.Is)
	}
	if n.State != "" {
		title += ": " + n.State
	}
	if n.Because != "" {
		title += " because " + n.Because
	}
	if at := n.Position.Short(); at != "" {
		title += " (" + at + ")"
	}
	to := ""
	if w.o.Link != nil {
		to = w.o.Link(i)
	}
	if to != "" {
		w.put(`<a href="%s">`, svgText(to))
	}
	w.put(`<g><title>%s</title><rect class="%s" x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="5"/>`, svgText(title), raw(class), r.X, r.Y, r.W, r.H)
	w.put(`<text x="%.1f" y="%.1f" font-size="13">%s</text>`, r.X+10, r.Y+17, svgText(layout.Fit(n.Name, 13, r.W-20)))
	note, room := n.Type, r.W-20
	if state := stateClass(n.State); state != "" { // it takes the place of the driver, so that the box is as wide as ever
		w.put(`<rect class="s-%s" x="%.1f" y="%.1f" width="5" height="%.1f" rx="2"/>`, raw(state), r.X, r.Y, r.H)
		w.put(`<text class="s-%s" x="%.1f" y="%.1f" font-size="11">%s</text>`, raw(state), r.X+10, r.Y+32, svgText(layout.FitBold(n.State, 11, room)))
		room -= layout.BoldWidth(n.State, 11) + 4
		_, note, _ = strings.Cut(n.Type, ".")
	}
	w.put(`<text class="soft" x="%.1f" y="%.1f" font-size="11">%s</text></g>`, r.X+r.W-10-room, r.Y+32, svgText(layout.Fit(note, 11, room)))
	if to != "" {
		w.put("</a>")
	}
	w.put("\n")
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
	w.put(`<g><title>%s</title><path class="road" marker-end="url(#end)" d="%s"/>`, svgText(w.needs(r)), raw(path.String()))
	if len(r.Needs) > 1 { // in the middle, where roads that end at one place do not
		a, b := r.Path[0], r.Path[1]
		w.put(`<text class="soft number" x="%.1f" y="%.1f" font-size="11" text-anchor="middle">%d</text>`, (a.X+b.X)/2, (a.Y+b.Y)/2+4, len(r.Needs))
	}
	w.put("</g>\n")
}

// needs says what a road stands for.
func (w *svg) needs(r layout.Road) string {
	if len(r.Needs) > 1 {
		return Count(len(r.Needs), "need")
	}
	n := w.d.Needs[r.Needs[0]]
	from, to := w.d.Nodes[n.From], w.d.Nodes[n.To]
	out := to.Full() + " needs " + from.Full()
	if n.Why != "" {
		out += " by " + n.Why
	}
	return out
}
