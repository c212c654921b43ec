package render

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html"
	"sort"
	"strings"
	"time"

	"github.com/muesli/termenv"

	"kasbah/core/chart"
	"kasbah/core/propose"
	"kasbah/core/value"
)

//go:embed page/page.css
var pageCSS string

//go:embed page/page.js
var pageJS string

// pageOpen is up to how many actions a page shows with all their attributes;
// above it they open on demand.
const pageOpen = 60

// page is HTML being written. (A template would do, but the packages for them
// keep the linker from leaving out what the program does not use.)
type page struct {
	bytes.Buffer
	ids map[string]string // by full address: what a link leads to
}

// put writes markup. What is put into it is a text, which is cleaned and
// escaped: nothing that comes from a cloud or from code is ever markup.
func (w *page) put(markup string, texts ...string) {
	args := make([]any, len(texts))
	for i, s := range texts {
		lines := strings.Split(s, "\n")
		for j := range lines {
			lines[j] = Clean(lines[j])
		}
		args[i] = html.EscapeString(strings.Join(lines, "\n"))
	}
	fmt.Fprintf(w, markup, args...)
}

// Page writes a proposal as one HTML file that needs nothing else: searchable,
// light and dark, of use without scripts too. Only the page's own style and
// script may act in it.
func Page(p *propose.Proposal, opts ProposalOptions) []byte {
	w := &page{}
	var wards []string
	for _, x := range p.Wards {
		wards = append(wards, x.Ward)
	}
	title := fmt.Sprintf("%s, %s: %d of %s would change", strings.Join(wards, ", "), p.Env, p.Counts.Changing(),
		Count(p.Counts.Changing()+p.Counts.Same, "resource"))
	w.open(title)
	w.put("<p class=\"made\">Estate %s. Proposed by %s, %s.</p>\n", p.Estate, p.By,
		p.Made.Local().Format(time.DateTime))
	w.counts(p.Counts)
	w.summary(p, opts)
	w.put("</header>\n")
	for i, a := range p.Actions {
		if a.Kind != propose.Same {
			w.identify(a.Full(), i)
		}
	}
	if c, err := chart.New(chart.Proposed, chart.Sources{Estate: p.Estate, Env: p.Env, Proposal: p}); err == nil { // it reads no record
		w.drawing(c)
	}
	w.bar(p.Counts)
	w.put("<main>\n")
	w.wards(p, opts)
	w.lists(p)
	w.close()
	return w.Bytes()
}

// identify gives the details of an address an id that links can name.
func (w *page) identify(full string, i int) {
	if w.ids == nil {
		w.ids = map[string]string{}
	}
	w.ids[full] = fmt.Sprintf("r%d", i)
}

// drawing is the map, whose nodes link to their details.
func (w *page) drawing(c *chart.Chart) {
	if len(c.Nodes) == 0 {
		return
	}
	w.put("<details class=\"drawing\" open><summary><b>Map</b></summary><div tabindex=\"0\" role=\"region\" aria-label=\"map\">\n")
	w.Write(SVG(c.Draw(), SVGOptions{Link: func(node int) string {
		if id := w.ids[c.Nodes[node].Full()]; id != "" {
			return "#" + id
		}
		return ""
	}}))
	w.put("</div></details>\n")
}

// open begins a page, up to the heading.
func (w *page) open(title string) {
	w.head(title, pageCSS+SVGStyle, pageJS)
	w.put("<body>\n<header>\n<h1>%s</h1>\n", title)
}

// head is what comes before the body of a page, in which only this style and this script may act.
func (w *page) head(title, style, script string) {
	w.put(`<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'sha256-%s'; script-src 'sha256-%s'; base-uri 'none'; form-action 'none'">
<meta name="referrer" content="no-referrer">
<title>%s</title>
<style>`, digest(style), digest(script), title)
	w.WriteString(style)
	w.put("</style>\n</head>\n")
}

// close ends a page.
func (w *page) close() {
	w.put("</main>\n<script>")
	w.WriteString(pageJS)
	w.put("</script>\n</body>\n</html>\n")
}

func digest(s string) string {
	sum := sha256.Sum256([]byte(s))
	return base64.StdEncoding.EncodeToString(sum[:])
}

// countOf is how many actions of a kind there are, and what they are then
// called.
type countOf struct {
	kind propose.Kind
	n    int
	word string
}

func countsOf(c propose.Counts) []countOf {
	var out []countOf
	for _, x := range []countOf{
		{propose.New, c.New, "new"}, {propose.Adopt, c.Adopt, "adopted"}, {propose.Rename, c.Rename, "renamed"},
		{propose.Edit, c.Edit, "edited"},
		{propose.Release, c.Release, "released"}, {propose.Swap, c.Swap, "swapped"}, {propose.Drop, c.Drop, "dropped"},
	} {
		if x.n > 0 {
			out = append(out, x)
		}
	}
	return out
}

func (w *page) counts(c propose.Counts) {
	w.put("<ul class=\"counts\">")
	for _, x := range append(countsOf(c), countOf{propose.Same, c.Same, "unaffected"}) {
		w.put(`<li class="k-%s"><b>%s</b> %s</li>`, string(x.kind), fmt.Sprint(x.n), x.word)
	}
	w.put("</ul>\n")
}

// summary is that of the text form, with what must not be missed first.
func (w *page) summary(p *propose.Proposal, opts ProposalOptions) {
	var b bytes.Buffer
	NewOut(&b, 1<<20, termenv.Ascii).Summary(p, opts)
	lines := append(warningLines(p), strings.Split(strings.TrimSpace(b.String()), "\n")...)
	hurts := func(line string) bool {
		for _, begin := range []string{"Warning", "Loses data", "Touches security", "Refused"} {
			if strings.HasPrefix(line, begin) {
				return true
			}
		}
		return false
	}
	for _, line := range lines {
		if hurts(line) {
			w.put("<p class=\"alarm\">%s</p>\n", line)
		}
	}
	for _, line := range lines {
		if !hurts(line) && strings.TrimSpace(line) != "" && !strings.Contains(line, " would change: ") {
			w.put("<p>%s</p>\n", line)
		}
	}
}

// bar is what only scripts make useful; they show it.
func (w *page) bar(c propose.Counts) {
	w.put(`<search class="bar" hidden>
<label>Find <input id="find" type="search" placeholder="address, attribute or value" autocomplete="off" spellcheck="false"></label>
<span class="kinds" role="group" aria-label="show actions">`)
	for _, x := range countsOf(c) {
		w.put(`<button type="button" data-kind="%[1]s" aria-pressed="true" class="k-%[1]s">%[1]s</button>`,
			string(x.kind))
	}
	w.put(`</span>
<button type="button" id="open">Open all</button>
<button type="button" id="light">Light or dark</button>
<output id="hits"></output>
</search>
`)
}

func (w *page) wards(p *propose.Proposal, opts ProposalOptions) {
	shown := opts.shown(p.Actions)
	if opts.Summary {
		shown = nil
	}
	sort.SliceStable(shown, func(i, j int) bool { return actionOrder[shown[i].Kind] > actionOrder[shown[j].Kind] })
	byWard := map[string][]*propose.Action{}
	for _, a := range shown {
		byWard[a.Ward] = append(byWard[a.Ward], a)
	}
	for _, at := range p.Wards {
		if len(byWard[at.Ward]) == 0 {
			continue
		}
		w.put("<section>\n<h2>%s <small>%s</small></h2>\n", at.Ward, wardFrom(p, at, opts))
		for _, a := range byWard[at.Ward] {
			w.action(a, len(shown) <= pageOpen)
		}
		w.put("</section>\n")
	}
}

func (w *page) action(a *propose.Action, open bool) {
	w.put(`<details class="action" id="%s" data-kind="%s"`, w.ids[a.Full()], string(a.Kind))
	if open {
		w.put(" open")
	}
	w.put(`><summary><b class="word k-%[1]s">%[1]s</b><span class="address">%[2]s</span>`, string(a.Kind), a.Address)
	if why := strings.TrimSpace(because(a)); why != "" {
		w.put(`<span class="why">%s</span>`, why)
	}
	w.mark(a.Plan != nil && a.Plan.HoldsData && !a.Plan.CopyFirst && (a.Kind == propose.Drop || a.Kind == propose.Swap),
		"loses data")
	w.mark(touchesSecurity(a), "security")
	w.put("<span class=\"at\">%s</span></summary>\n", a.Position.Short())
	if len(a.Changes) > 0 && !a.Leaves() {
		was := "<th>was"
		if a.Kind == propose.New {
			was = ""
		}
		w.put("<table><thead><tr><th>attribute" + was + "<th>will be</thead><tbody>\n")
		for _, c := range a.Changes {
			w.change(a, c)
		}
		w.put("</tbody></table>\n")
	}
	w.notes(a)
	w.put("</details>\n")
}

func (w *page) mark(is bool, word string) {
	if is {
		w.put("<em>%s</em>", word)
	}
}

func (w *page) change(a *propose.Action, c propose.Change) {
	w.put("<tr><th>%s ", c.Path)
	w.mark(c.ByHand, "changed by hand")
	w.mark(c.Fixed && a.Kind == propose.Swap, "fixed")
	w.mark(c.Security, "security")
	if diff := textDiff(c.Was.V, c.WillBe.V); diff != nil && !c.Secret {
		w.put("<td colspan=\"2\"><pre>%s</pre></tr>\n", strings.Join(diff, "\n"))
		return
	}
	if a.Kind != propose.New {
		w.put("<td class=\"was\">%s", shownIn(a.Ward, c.Was.V, c.Secret))
	}
	w.put("<td>%s</tr>\n", shownIn(a.Ward, c.WillBe.V, c.Secret))
}

// notes are what else is known of an action.
func (w *page) notes(a *propose.Action) {
	var parts []string
	if len(a.Needs) > 0 {
		var needs []string
		for _, n := range a.Needs {
			if ward, short := value.SplitWard(n); ward == a.Ward {
				n = short
			}
			needs = append(needs, n)
		}
		parts = append(parts, "Needs "+strings.Join(needs, ", ")+".")
	}
	if a.Kit != "" {
		parts = append(parts, "Declared by the kit "+a.Kit+".")
	}
	if len(a.Via) > 0 {
		parts = append(parts, "Called "+strings.Join(a.Via, ", ")+".")
	}
	if a.Seconds > 0 {
		parts = append(parts, "Takes about "+About(a.Seconds)+".")
	}
	if a.Undo != "" {
		parts = append(parts, "To take it back: "+a.Undo+".")
	}
	if len(parts) > 0 {
		w.put("<p class=\"note\">%s</p>\n", strings.Join(parts, " "))
	}
}

// lists are what is told a line each: attributes that stay as they are, and
// resources that do.
func (w *page) lists(p *propose.Proposal) {
	name := func(ward, address string) string {
		if len(p.Wards) > 1 {
			return value.InWard(ward, address)
		}
		return address
	}
	list := func(id, title string, lines []string) {
		if len(lines) > 0 {
			w.put("<details class=\"list\" id=\"%s\"><summary><b>%s</b></summary><pre>%s</pre></details>\n", id, title,
				strings.Join(lines, "\n"))
		}
	}
	var left, same []string
	for _, l := range p.Left {
		left = append(left, name(l.Ward, l.Address)+" "+l.Path)
	}
	for _, a := range p.Actions {
		if a.Kind == propose.Same {
			same = append(same, name(a.Ward, a.Address))
		}
	}
	list("left", "No longer declared and left as they are", left)
	list("assured", "Not assured against a kill or a second writer", p.NotAssured)
	list("same", Count(len(same), "resource")+" unaffected", same)
}
