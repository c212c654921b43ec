package page

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	. "maragu.dev/gomponents" //nolint:revive // pages are written in its words
	. "maragu.dev/gomponents/components"
	. "maragu.dev/gomponents/html"

	"kasbah/core/alert"
	"kasbah/core/chart"
	"kasbah/core/value"
	"kasbah/render"
)

// frame is what every page shows.
type frame struct {
	estate, title string
	now           time.Time
	access        *access
	who           string // the name of the token
	at            string // the page, to come back to
	troubles      []string
	problem       string
}

func (s *Server) frame(r *http.Request, title string) *frame {
	f := &frame{estate: s.board.Estate, title: title, now: s.board.Now(), access: accessOf(r), at: r.URL.RequestURI()}
	for _, env := range value.Keys(f.access.tokens) {
		f.who = f.access.tokens[env].Name
	}
	if f.access.local || f.access.entered() {
		f.troubles = s.board.Troubles()
	}
	return f
}

// text is a text without hidden characters: it may come from a cloud.
func text(s string) Node { return Text(render.Clean(s)) }

func (f *frame) page(main ...Node) Node {
	return HTML5(HTML5Props{
		Title: render.Clean(f.title) + " · Kasbah", Language: "en",
		Head: []Node{Link(Rel("stylesheet"), Href("/page.css")), Link(Rel("icon"), Href("/icon.svg")), Meta(Name("color-scheme"), Content("light dark"))},
		Body: []Node{
			Header(
				A(Class("home"), Href("/"), text(f.estate)),
				Nav(A(Href("/"), Text("Wards")), A(Href("/alerts"), Text("Alerts"))),
				f.actor(),
			),
			Main(
				If(f.problem != "", P(Class("problem"), Role("alert"), text(f.problem))),
				Map(f.troubles, func(t string) Node { return P(Class("problem"), Role("alert"), text(t)) }),
				Group(main),
			),
		},
	})
}

// actor is whose token it is, or where to give one.
func (f *frame) actor() Node {
	if f.who != "" {
		return Form(Class("who"), Method("post"), Action("/leave"), Span(text(f.who)), Button(Text("Leave")))
	}
	return A(Class("who"), Href("/enter?back="+url.QueryEscape(f.at)), Text("Enter"))
}

func (f *frame) enter(back string) Node {
	return f.page(H1(Text("Enter")), Form(Class("fields"), Method("post"), Action("/enter"),
		Input(Type("hidden"), Name("back"), Value(back)),
		Input(Type("text"), Name("estate"), Value(f.estate), AutoComplete("username"), Attr("hidden")), // for what keeps passwords
		Label(For("token"), Text("Token")),
		Input(ID("token"), Name("token"), Type("password"), AutoComplete("current-password"), Required(), AutoFocus()),
		P(Class("soft"), Code(Text("kasbah watch tokens -new NAME -env ENVIRONMENT")), Text(" makes one.")),
		P(Button(Class("main"), Text("Enter"))),
	))
}

// clock is a time for people, exact in what a pointer shows.
func (f *frame) clock(t time.Time) Node {
	if t.IsZero() {
		return Text("never")
	}
	return El("time", Attr("datetime", t.UTC().Format(time.RFC3339)), TitleAttr(t.UTC().Format("2006-01-02 15:04:05 UTC")), Text(apart(f.now, t)))
}

// exact is a time for people who compare times.
func (f *frame) exact(t time.Time) Node {
	return El("time", Attr("datetime", t.UTC().Format(time.RFC3339)), Text(t.UTC().Format("2006-01-02 15:04:05 UTC")+", "+apart(f.now, t)))
}

// apart is how far a time is from now, in its greatest unit.
func apart(now, t time.Time) string {
	d := now.Sub(t).Round(time.Second)
	form := "%s ago"
	if d < 0 {
		d, form = -d, "in %s"
	}
	unit := func(n int, word string) string { return fmt.Sprintf(form, render.Count(n, word)) }
	switch {
	case d < time.Minute:
		return unit(int(d.Seconds()), "second")
	case d < time.Hour:
		return unit(int(d.Minutes()), "minute")
	case d < 48*time.Hour:
		return unit(int(d.Hours()), "hour")
	}
	return unit(int(d.Hours()/24), "day")
}

// cell is a cell of a table, which says on narrow screens what it holds.
func cell(name string, in ...Node) Node { return Td(Data("name", name), Group(in)) }

func head(names ...string) Node {
	return THead(Tr(Map(names, func(n string) Node { return Th(Scope("col"), Text(n)) })))
}

// home is how the wards of all environments stand.
func (f *frame) home(envs []*Environment) Node {
	var open []choice
	for _, e := range envs {
		for _, a := range e.alerts() {
			if a.Phase == alert.Open {
				open = append(open, choice{e, a})
			}
		}
	}
	return f.page(
		If(len(envs) == 0, P(Text("Nothing is watched yet: no environment of kasbah.toml has a schedule, or none could be opened."))),
		Map(envs, func(e *Environment) Node { return f.environment(e) }),
		If(len(open) > 0, Group{
			H2(Text("Open alerts")),
			f.list(open[:min(len(open), onHome)]),
			If(len(open) > onHome, P(A(Href("/alerts"), Textf("All %d open alerts", len(open))))),
		}),
	)
}

// onHome is how many alerts the first page shows.
const onHome = 10

func (f *frame) environment(e *Environment) Node {
	counts := map[alert.Phase]int{}
	open := map[string]int{} // by ward
	for _, a := range e.alerts() {
		if counts[a.Phase]++; a.Phase == alert.Open {
			open[a.Finding.Ward]++
		}
	}
	return Section(
		H1(text(e.Name), Span(Class("sums"),
			A(Classes{"sum": true, "k-open": counts[alert.Open] > 0}, Href("/alerts?environment="+url.QueryEscape(e.Name)), Textf("%d open", counts[alert.Open])),
			A(Class("sum"), Href("/alerts?state=acknowledged&environment="+url.QueryEscape(e.Name)), Textf("%d acknowledged", counts[alert.Acknowledged])))),
		If(e.Wrong != nil, Iff(e.Wrong != nil, func() Node {
			return P(Class("problem"), Text("The journal cannot be read since "), f.clock(e.Since), text(": "+e.Wrong.Error()))
		})),
		Table(Class("wards"),
			head("ward", "alerts", "surveyed", "due", "match", "differ", "gone", "other", "drift over time"),
			TBody(Map(e.wards(), func(name string) Node { return f.wardRow(e, name, open[name]) })),
		),
	)
}

func (f *frame) wardRow(e *Environment, name string, open int) Node {
	w := e.ward(name)
	counts := map[string]int{}
	if w.Last != nil {
		counts = w.Last.Counts
	}
	other := 0
	for verdict, n := range counts {
		if verdict != "matches" && verdict != alert.Differs && verdict != alert.Gone {
			other += n
		}
	}
	number := func(n int, class string) Node {
		return Span(Classes{"zero": n == 0, class: n > 0}, Textf("%d", n))
	}
	last := f.clock(w.At)
	if w.Last != nil && w.Last.Error != "" {
		last = Group{last, Text(" "), Span(Class("k-failed"), TitleAttr(render.Clean(w.Last.Error)), Textf("failed (%d)", w.Failures))}
	}
	if w.Claim != nil {
		last = Group{last, Span(Class("soft"), Text(", being surveyed"))}
	}
	alerts := number(0, "")
	if open > 0 {
		alerts = A(Class("k-open"), Href("/alerts?environment="+url.QueryEscape(e.Name)+"&ward="+url.QueryEscape(name)), Textf("%d", open))
	}
	due := Node(Text("not by schedule"))
	if next := e.next(name, f.now); !next.IsZero() {
		due = f.clock(next)
	}
	return Tr(
		Th(Scope("row"), A(Href("/wards/"+url.PathEscape(e.Name)+"/"+url.PathEscape(name)), text(name))),
		cell("alerts", alerts), cell("surveyed", last), cell("due", due),
		cell("match", number(counts["matches"], "some")), cell("differ", number(counts[alert.Differs], "k-open")),
		cell("gone", number(counts[alert.Gone], "k-open")), cell("other", number(other, "some")),
		cell("drift", history(w.History, 40, 160, 22)),
	)
}

// history draws the newest surveys of a ward as bars, each as high as so many resources drifted. One that
// failed is a bar of another kind from top to bottom.
func history(points []alert.Point, most, width, height int) Node {
	points = points[max(0, len(points)-most):]
	if len(points) == 0 {
		return Span(Class("soft"), Text("none yet"))
	}
	highest := 1
	for _, p := range points {
		highest = max(highest, p.Drift())
	}
	step := float64(width) / float64(most)
	var said []string
	var bars Group
	for i, p := range points {
		n, class := p.Drift(), "bar"
		h := 1.5
		switch {
		case p.Error != "":
			class, h = "bar failed", float64(height)
		case n > 0:
			class, h = "bar drift", max(3, float64(n)/float64(highest)*float64(height))
		}
		bars = append(bars, El("rect", Class(class), Attr("x", short(float64(most-len(points)+i)*step)), Attr("y", short(float64(height)-h)),
			Attr("width", short(max(1, step-1))), Attr("height", short(h))))
	}
	for _, p := range points[max(0, len(points)-10):] {
		if p.Error != "" {
			said = append(said, "failed")
		} else {
			said = append(said, strconv.Itoa(p.Drift()))
		}
	}
	return El("svg", Class("history"), Attr("viewBox", fmt.Sprintf("0 0 %d %d", width, height)), Attr("width", strconv.Itoa(width)),
		Attr("height", strconv.Itoa(height)), Role("img"), Aria("label", "drifted in the last surveys: "+strings.Join(said, ", ")), bars)
}

func short(x float64) string { return strconv.FormatFloat(x, 'f', 1, 64) }

// ward is one ward over time, with its alerts.
func (f *frame) ward(e *Environment, name string, drawing Node) Node {
	w := e.ward(name)
	var of []choice
	for _, a := range e.alerts() {
		if a.Finding.Ward == name && a.Phase != alert.Resolved {
			of = append(of, choice{e, a})
		}
	}
	newest := slices.Clone(w.History)
	slices.Reverse(newest)
	return f.page(
		H1(text(name), Span(Class("soft"), text(" in "+e.Name))),
		P(Class("soft"), Text("Surveyed "), f.clock(w.At), Iff(!e.next(name, f.now).IsZero(), func() Node {
			return Group{Text(", due "), f.clock(e.next(name, f.now))}
		}), Text(".")),
		Iff(w.Last != nil && w.Last.Error != "", func() Node {
			return P(Class("problem"), text("The last survey failed: "+w.Last.Error))
		}),
		H2(Text("Drift over time")),
		Div(Class("wide"), history(w.History, max(40, len(w.History)), 1000, 90)),
		Iff(len(w.History) > 0, func() Node {
			return P(Class("ends"), Span(f.clock(w.History[0].At)), Span(f.clock(w.History[len(w.History)-1].At)))
		}),
		P(Class("soft"), Text("Each bar is a survey, as high as so many resources were not as declared; a grey one failed.")),
		drawing,
		H2(Text("Alerts")),
		If(len(of) == 0, P(Text("None is open or acknowledged."))),
		If(len(of) > 0, f.list(of[:min(len(of), onPage)])),
		If(len(of) > onPage, P(A(Href("/alerts?state=all&environment="+url.QueryEscape(e.Name)+"&ward="+url.QueryEscape(name)), Textf("All %d", len(of))))),
		H2(Text("Last surveys")),
		Table(Class("surveys"), head("when", "match", "differ", "gone", "unchecked", "failed"), TBody(Map(newest[:min(len(newest), 20)], func(p alert.Point) Node {
			n := func(n int32) Node { return Textf("%d", n) }
			return Tr(cell("when", f.clock(p.At)), cell("match", n(p.Matches)), cell("differ", n(p.Differs)), cell("gone", n(p.Gone)),
				cell("unchecked", n(p.Unchecked)), cell("failed", text(p.Error)))
		}))),
	)
}

// drawTime is how long a page waits for a map.
const drawTime = 10 * time.Second

// drawing is the map of a ward as it is declared, with what its alerts say of each resource.
func (f *frame) drawing(ctx context.Context, e *Environment, name string) Node {
	if e.Draw == nil || e.Wards == nil {
		return nil
	}
	if _, listed := e.Wards[name]; !listed { // it has left the estate
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, drawTime)
	defer cancel()
	d, err := e.Draw(ctx, name)
	if err != nil {
		return Group{H2(Text("Map")), P(Class("problem"), text("It cannot be drawn: "+err.Error()))}
	}
	alerts := map[string]*alert.Alert{} // by address; an open one before others
	for _, a := range e.alerts() {
		if at := a.Finding.Address; a.Finding.Ward == name && a.Phase != alert.Resolved && alerts[at] == nil {
			alerts[at] = a
		}
	}
	d = d.With(func(n *chart.Node) string {
		if a := alerts[n.Address]; a != nil {
			return a.Finding.Verdict
		}
		return ""
	})
	return Group{
		H2(Text("Map")),
		Div(Class("wide"), TabIndex("0"), Role("region"), Aria("label", "map"), Raw(string(render.SVG(d, render.SVGOptions{Link: func(node int) string {
			if a := alerts[d.Nodes[node].Address]; a != nil {
				return "/alerts/" + url.PathEscape(e.Name) + "/" + a.ID
			}
			return ""
		}})))),
		P(Class("soft"), Text("What is declared, with needs from left to right. A resource with an alert leads to it.")),
	}
}

// choice is one alert of a list.
type choice struct {
	e *Environment
	a *alert.Alert
}

// chosen is a list of alerts, and what it was chosen by.
type chosen struct {
	state, env, ward, words string
	envs, wards             []string // that can be chosen
	all                     []choice
	page                    int
}

// onPage is how many alerts a page shows.
const onPage = 50

// states are what a list can be chosen by; the first one stands where none is named.
var states = []string{"open", "acknowledged", "resolved", "all"}

// choose reads which alerts are to be shown.
func (s *Server) choose(r *http.Request) *chosen {
	q := r.URL.Query()
	c := &chosen{state: q.Get("state"), env: q.Get("environment"), ward: q.Get("ward"), words: strings.TrimSpace(q.Get("q"))}
	if !slices.Contains(states, c.state) {
		c.state = states[0]
	}
	c.page, _ = strconv.Atoi(q.Get("page")) // the first one, for anything else
	wards := map[string]bool{}
	for _, e := range s.readable(r) {
		c.envs = append(c.envs, e.Name)
		for _, w := range e.wards() {
			wards[w] = true
		}
		if c.env != "" && c.env != e.Name {
			continue
		}
		for _, a := range e.alerts() {
			f := &a.Finding
			if (c.state == "all" || c.state == string(a.Phase)) && (c.ward == "" || c.ward == f.Ward) && c.fits(a) {
				c.all = append(c.all, choice{e, a})
			}
		}
	}
	c.wards = value.Keys(wards)
	c.page = max(0, min(c.page, (len(c.all)-1)/onPage))
	return c
}

// fits reports whether an alert holds the words that are searched for.
func (c *chosen) fits(a *alert.Alert) bool {
	if c.words == "" {
		return true
	}
	f := &a.Finding
	return strings.Contains(strings.ToLower(strings.Join([]string{a.ID, f.Subject(), f.Type, f.Verdict, f.By, f.Because, f.Position}, " ")),
		strings.ToLower(c.words))
}

// to is the address of another page of the list.
func (c *chosen) to(page int) string {
	q := url.Values{}
	for k, v := range map[string]string{"state": c.state, "environment": c.env, "ward": c.ward, "q": c.words} {
		if v != "" {
			q.Set(k, v)
		}
	}
	q.Set("page", strconv.Itoa(page))
	return "/alerts?" + q.Encode()
}

func (f *frame) alerts(c *chosen) Node {
	from := c.page * onPage
	to := min(from+onPage, len(c.all))
	options := func(name, is, any string, all []string) Node {
		return Label(Text(name), Select(Name(name), If(any != "", Option(Value(""), Text(any))),
			Map(all, func(o string) Node { return Option(Value(o), If(o == is, Selected()), text(o)) })))
	}
	return f.page(
		H1(Text("Alerts")),
		Form(Class("choose"), Action("/alerts"),
			options("state", c.state, "", states), options("environment", c.env, "all", c.envs), options("ward", c.ward, "all", c.wards),
			Label(Text("words"), Input(Type("search"), Name("q"), Value(c.words))),
			Button(Text("Show")),
		),
		If(len(c.all) == 0, P(Text("There is none."))),
		If(len(c.all) > 0, Group{
			P(Class("soft"), Textf("%d to %d of %d", from+1, to, len(c.all))),
			f.list(c.all[from:to]),
			P(Class("pages"),
				If(c.page > 0, A(Rel("prev"), Href(c.to(c.page-1)), Text("Before"))),
				If(to < len(c.all), A(Rel("next"), Href(c.to(c.page+1)), Text("Next"))),
			),
		}),
	)
}

// list is a table of alerts.
func (f *frame) list(all []choice) Node {
	return Table(Class("alerts"), head("state", "what", "found", "since"), TBody(Map(all, func(c choice) Node {
		a := c.a
		return Tr(
			cell("state", Span(Class("state k-"+string(a.Phase)), Text(string(a.Phase)))),
			cell("what", A(Href("/alerts/"+url.PathEscape(c.e.Name)+"/"+a.ID), text(a.Finding.Subject())), Text(" "), Small(Class("soft"), text(c.e.Name))),
			cell("found", text(render.Finding(&a.Finding)), Iff(a.Ack != nil, func() Node { return Div(Class("soft"), text(acked(a.Ack))) })),
			cell("since", f.clock(a.Opened)),
		)
	})))
}

func acked(k *alert.Ack) string {
	out := k.Who + ": " + k.Why
	if k.Until != "" {
		out += ", until " + k.Until
	}
	return out
}

// alert is all that is known of one, and the form to acknowledge it.
func (f *frame) alert(e *Environment, a *alert.Alert, in entry) Node {
	d := &a.Finding
	row := func(name string, is bool, in ...Node) Node {
		return If(is, Tr(Th(Scope("row"), Text(name)), Td(in...)))
	}
	shown := func(v *value.Any) string {
		if v == nil {
			return "nothing"
		}
		return value.Plain(v.V)
	}
	differs := d.Verdict == alert.Differs
	return f.page(
		H1(Span(Class("state k-"+string(a.Phase)), Text(string(a.Phase))), text(" "+d.Subject())),
		If(!differs, P(text(render.Finding(d)+"."))),
		Table(Class("facts"), TBody(
			row("expected", differs, Code(text(shown(d.Expected)))), row("found", differs, Code(text(shown(d.Found)))),
			row("type", d.Type != "", text(d.Type)), row("verdict", true, text(d.Verdict)),
			row("by", d.By != "", text(d.By)), row("at", d.At != nil, Iff(d.At != nil, func() Node { return f.exact(*d.At) })),
			row("declared at", d.Position != "", Code(text(d.Position))),
			row("ward", d.Ward != "", A(Href("/wards/"+url.PathEscape(e.Name)+"/"+url.PathEscape(d.Ward)), text(d.Ward)), text(" in "+e.Name)),
			row("alert", true, Code(Text(a.ID))),
			row("acknowledged", a.Ack != nil, Iff(a.Ack != nil, func() Node { return text(acked(a.Ack)) })),
		)),
		H2(Text("What happened")),
		Ol(Class("steps"), Map(a.Steps, func(s alert.Step) Node { return Li(f.exact(s.At), Text(" "), Span(text(render.Step(&s)))) })),
		If(a.Phase != alert.Resolved, Group{H2(Text("Acknowledge")), f.acknowledge(e, a, in)}),
	)
}

func (f *frame) acknowledge(e *Environment, a *alert.Alert, in entry) Node {
	if !f.access.may(e.Name, "acknowledge") {
		return Group{
			If(in.wrong != "", P(Class("problem"), Role("alert"), text(in.wrong))),
			P(A(Class("button"), Href("/enter?back="+url.QueryEscape("/alerts/"+e.Name+"/"+a.ID)), Text("Enter")), Text(" with a token that may acknowledge in "), text(e.Name), Text(".")),
		}
	}
	return Form(Class("fields"), Method("post"), Action("/alerts/"+url.PathEscape(e.Name)+"/"+a.ID),
		If(in.wrong != "", P(Class("problem"), Role("alert"), text(in.wrong))),
		Label(For("why"), Text("Why it may stay as it is")), Input(ID("why"), Name("why"), Value(in.why), Required(), MaxLength(strconv.Itoa(longestWhy))),
		Label(For("until"), Text("Last day, if there is one")), Input(ID("until"), Name("until"), Type("date"), Value(in.until), Min(f.now.Format(time.DateOnly))),
		P(Button(Class("main"), Text("Acknowledge"))),
		P(Class("soft"), Text("It opens again when something else is found, or when its last day is over.")),
	)
}
