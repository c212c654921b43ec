package render

import (
	"fmt"
	"sort"
	"strings"
	"time"

	"kasbah/core/propose"
	"kasbah/core/value"
)

// ProposalOptions say how much of a proposal is shown.
type ProposalOptions struct {
	Full    bool                       // every action on its own
	Now     time.Time                  // to say how old a kept proposal is; zero for a fresh one
	Summary bool                       // nothing but the summary
	Show    func(*propose.Action) bool // of the changing actions; nil for all
	Signed  []propose.Signed           // of the wards that ask for signatures
	Undo    bool                       // say how each action would be taken back
}

// shown are the changing actions that are to be shown.
func (opts ProposalOptions) shown(list []*propose.Action) []*propose.Action {
	var out []*propose.Action
	for _, a := range list {
		if a.Kind != propose.Same && (opts.Show == nil || opts.Show(a)) {
			out = append(out, a)
		}
	}
	return out
}

// grouped is how many alike actions are told once.
const grouped = 4

// Proposal writes a proposal for people: what is harmless first, what hurts
// last, just above the summary.
func (o *Out) Proposal(p *propose.Proposal, opts ProposalOptions) {
	told := false // the ward before had something to tell
	for _, w := range p.Wards {
		if told {
			o.Printf("\n")
		}
		o.wardHead(p, w, opts)
		told = !opts.Summary && o.wardActions(p, w.Ward, opts)
	}
	o.Printf("\n")
	if n := len(opts.shown(p.Actions)); opts.Show != nil && !opts.Summary {
		o.Printf("Shown are %d of %s that would change.\n", n, Count(p.Counts.Changing(), "resource"))
	}
	o.left(p, opts)
	for _, w := range p.Warnings {
		o.Printf("%s\n", Wrap("Warning: "+Clean(w), o.Width-2, "  "))
	}
	o.Summary(p, opts)
	if opts.Undo {
		o.undo(p)
	}
}

// undo says how the actions would be taken back.
func (o *Out) undo(p *propose.Proposal) {
	n := map[string]int{}
	for _, a := range p.Actions {
		if a.Undo != "" && a.Kind != propose.Same {
			n[a.Undo]++
		}
	}
	var parts []string
	for _, x := range []struct{ how, words string }{
		{propose.UndoDrop, "dropped again"}, {propose.UndoEdit, "edited back"}, {propose.UndoRename, "renamed back"},
		{propose.UndoRelease, "released again"},
		{propose.UndoRecord, "recorded again"}, {propose.UndoMake, "made again, with another id"},
		{propose.UndoEmpty, "made again without its data"}, {propose.UndoNone, "not taken back, since it is guarded"},
	} {
		if n[x.how] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n[x.how], x.words))
		}
	}
	if len(parts) > 0 {
		o.Printf("%s\n", Wrap("Should one fail, what was done is taken back: "+strings.Join(parts, ", ")+".", o.Width-2,
			"  "))
	}
}

func (o *Out) wardHead(p *propose.Proposal, w propose.WardAt, opts ProposalOptions) {
	o.Printf("%s\n", o.Bold(Wrap(fmt.Sprintf("%s, %s: %s", w.Ward, p.Env, wardFrom(p, w, opts)), o.Width-2, "  ")))
}

// wardFrom says what a ward's part of a proposal was made from.
func wardFrom(p *propose.Proposal, w propose.WardAt, opts ProposalOptions) string {
	from := fmt.Sprintf("from ledger entry %d", w.Entry)
	if w.Entry == 0 {
		from = "nothing recorded yet"
	}
	live := "live read just now"
	switch {
	case p.Offline:
		live = "live not read (-offline)"
	case !opts.Now.IsZero():
		live = "live read " + Ago(opts.Now.Sub(p.Made))
	case w.Entry == 0:
		live = ""
	}
	if live != "" {
		from += ", " + live
	}
	return from
}

var actionOrder = map[propose.Kind]int{propose.New: 1, propose.Adopt: 2, propose.Rename: 3, propose.Edit: 4,
	propose.Release: 5, propose.Swap: 6, propose.Drop: 7}

// wardActions writes a ward's actions and reports whether there were any.
func (o *Out) wardActions(p *propose.Proposal, ward string, opts ProposalOptions) bool {
	var list []*propose.Action
	for _, a := range opts.shown(p.Actions) {
		if a.Ward == ward {
			list = append(list, a)
		}
	}
	if len(list) == 0 {
		return false
	}
	o.Printf("\n")
	sort.SliceStable(list, func(i, j int) bool { return actionOrder[list[i].Kind] < actionOrder[list[j].Kind] })
	column, words := 0, 6
	for _, a := range list {
		column = max(column, min(width(a.Address), 44))
		if len(a.Kind) > 5 {
			words = 8
		}
	}
	for _, g := range groups(list, opts.Full) {
		if len(g.actions) == 1 {
			o.action(g.actions[0], words, column)
		} else {
			o.group(g, words)
		}
	}
	return true
}

// group is a number of alike actions.
type group struct {
	actions []*propose.Action
	changes []propose.Change // what they have in common
	vary    []string         // paths in which they differ
}

// groups puts actions with the same changes together, and where a proposal is
// long also those that change the same attributes. What swaps or drops is
// always told one by one.
func groups(list []*propose.Action, full bool) []group {
	exact := gather(list, full, func(a *propose.Action) string {
		var b strings.Builder
		for _, c := range a.Changes {
			if c.Path != "name" {
				fmt.Fprintf(&b, "%s\x00%s\x00%s\n", c.Path, value.Encode(c.Was.V), value.Encode(c.WillBe.V))
			}
		}
		return b.String()
	})
	if full || len(exact) <= 60 {
		return exact
	}
	return gather(list, full, func(a *propose.Action) string {
		var b strings.Builder
		for _, c := range a.Changes {
			b.WriteString(c.Path + "\n")
		}
		return b.String()
	})
}

func gather(list []*propose.Action, full bool, signature func(*propose.Action) string) []group {
	var out []group
	at := map[string]int{}
	for _, a := range list {
		alone := full || a.Kind == propose.Swap || a.Kind == propose.Drop || touchesSecurity(a)
		key := fmt.Sprintf("%s %s %s\n%s", a.Kind, a.Type, a.Because, signature(a))
		if i, ok := at[key]; ok && !alone {
			out[i].actions = append(out[i].actions, a)
			continue
		}
		if !alone {
			at[key] = len(out)
		}
		out = append(out, group{actions: []*propose.Action{a}})
	}
	var split []group
	for _, g := range out {
		if len(g.actions) > 1 && len(g.actions) < grouped {
			for _, a := range g.actions {
				split = append(split, group{actions: []*propose.Action{a}})
			}
			continue
		}
		g.common()
		split = append(split, g)
	}
	return split
}

func touchesSecurity(a *propose.Action) bool {
	for _, c := range a.Changes {
		if c.Security {
			return true
		}
	}
	return false
}

// common finds what the group's actions share.
func (g *group) common() {
	for _, c := range g.actions[0].Changes {
		same := true
		for _, a := range g.actions[1:] {
			found := false
			for _, d := range a.Changes {
				if d.Path == c.Path {
					found = value.Equal(c.Was.V, d.Was.V) && value.Equal(c.WillBe.V, d.WillBe.V)
				}
			}
			same = same && found
		}
		if same {
			g.changes = append(g.changes, c)
		} else {
			g.vary = append(g.vary, c.Path)
		}
	}
}

func (o *Out) group(g group, words int) {
	first := g.actions[0]
	if first.Adopts != "" { // each takes its own
		one := *first
		one.Adopts, first = "", &one
	}
	word := pad(string(first.Kind)+" ", words)
	o.Printf("%s%d %s%s\n", o.Action(string(first.Kind), word), len(g.actions), first.Type, because(first))
	var names []string
	for _, a := range g.actions[:min(3, len(g.actions))] {
		names = append(names, Clean(a.Address))
	}
	rest := ""
	if n := len(g.actions) - len(names); n > 0 {
		rest = fmt.Sprintf(" and %d more (-full lists them)", n)
	}
	o.Printf("        %s\n", o.Paint(Grey, Wrap(strings.Join(names, ", ")+rest, o.Width-8, "        ")))
	o.changes(first.Ward, string(first.Kind), g.changes)
	if len(g.vary) > 0 {
		o.Printf("        %s\n", Wrap("each its own: "+strings.Join(g.vary, ", "), o.Width-10, "          "))
	}
}

func because(a *propose.Action) string {
	if a.Adopts != "" {
		b, verb := *a, "adopts "
		if b.Adopts = ""; a.Kind == propose.Adopt {
			verb = "takes "
		}
		return "  " + verb + a.Adopts + strings.Replace(because(&b), "  ", ", ", 1)
	}
	if a.Was != "" {
		b := *a
		b.Was = ""
		return "  was " + a.WasShort() + strings.Replace(because(&b), "  ", ", ", 1)
	}
	switch {
	case a.Because == "":
		return ""
	case a.Kind == propose.Swap:
		return "  because " + a.Because
	}
	return "  " + a.Because
}

func (o *Out) action(a *propose.Action, words, column int) {
	why := Clean(because(a))
	head, pos := Clean(a.Address), a.Position.Short()
	if why != "" && words+max(width(head), column)+width(why)+2+width(pos) <= o.Width {
		head, why = pad(head, column)+why, ""
	}
	line := o.Action(string(a.Kind), pad(string(a.Kind)+" ", words)) + head
	space := o.Width - words - width(head) - width(pos)
	switch {
	case pos == "":
		o.Printf("%s\n", line)
	case space >= 2:
		o.Printf("%s%s%s\n", line, strings.Repeat(" ", space), o.Paint(Grey, pos))
	default:
		o.Printf("%s\n        %s\n", line, o.Paint(Grey, pos))
	}
	if why != "" {
		o.Printf("        %s\n", Wrap(why, o.Width-8, "        "))
	}
	o.changes(a.Ward, string(a.Kind), a.Changes)
}

// changes writes the attributes of an action below it.
func (o *Out) changes(ward, kind string, list []propose.Change) {
	if kind == "drop" {
		return
	}
	name, will := 0, 0
	for _, c := range list {
		name = max(name, min(width(c.Path), 30))
		if textDiff(c.Was.V, c.WillBe.V) == nil {
			will = max(will, min(width(shownIn(ward, c.WillBe.V, c.Secret)), 46))
		}
	}
	for _, c := range list {
		line := pad(Clean(c.Path), name) + "  "
		now := shownIn(ward, c.WillBe.V, c.Secret)
		was := ""
		if c.Was.V != nil || kind != "new" {
			was = "was " + shownIn(ward, c.Was.V, c.Secret)
			if c.ByHand {
				was = "live was " + shownIn(ward, c.Was.V, c.Secret)
			}
		}
		mark := ""
		if c.Security {
			mark = "  (security)"
		}
		room := o.Width - 8 - width(line)
		if diff := textDiff(c.Was.V, c.WillBe.V); diff != nil && !c.Secret {
			o.Printf("        %s%s%s\n", line, map[bool]string{true: "live differs", false: "differs"}[c.ByHand], mark)
			for _, d := range diff {
				d = Fit(Clean(d), o.Width-10)
				if !strings.HasPrefix(d, "now ") {
					d = o.Paint(Grey, d)
				}
				o.Printf("          %s\n", d)
			}
			continue
		}
		if was == "" {
			o.Printf("        %s\n", strings.TrimRight(line+Fit(now, room-width(mark))+mark, " "))
			continue
		}
		if width(now) > will || width(now)+width(was)+2 > room {
			o.Printf("        %s%s%s\n        %s%s\n", line, Fit(now, room-width(mark)), mark,
				strings.Repeat(" ", width(line)), o.Paint(Grey, Fit(was, room)))
			continue
		}
		o.Printf("        %s%s  %s%s\n", line, pad(now, will), o.Paint(Grey, Fit(was, room-will-2)), mark)
	}
}

// shown is a value as people read it.
func shown(v any, secret bool) string { return shownIn("", v, secret) }

// shownIn is shown for people in a ward. A secret is its name at most.
func shownIn(ward string, v any, secret bool) string {
	if secret {
		name := ""
		value.Refs(v, func(r value.Ref) {
			if n, ok := value.SecretName(r.Address); ok && name == "" {
				name = strings.TrimRight(" "+n, " ")
			}
		})
		return "(secret" + Clean(name) + ")"
	}
	if v == nil {
		return "none"
	}
	if ward == "" {
		return Clean(value.Plain(v))
	}
	return Clean(value.PlainIn(ward, v))
}

func (o *Out) left(p *propose.Proposal, opts ProposalOptions) {
	if len(p.Left) == 0 {
		return
	}
	var names []string
	for i, l := range p.Left {
		if i == 5 && !opts.Full {
			names = append(names, fmt.Sprintf("and %d more (-full lists them)", len(p.Left)-i))
			break
		}
		names = append(names, l.Address+" "+l.Path)
	}
	o.Printf("%s\n", Wrap("No longer declared and left as they are: "+Clean(strings.Join(names, ", "))+".", o.Width-2,
		"  "))
}

// Summary writes the last lines of a proposal: the counts, what is lost, what
// is refused.
func (o *Out) Summary(p *propose.Proposal, opts ProposalOptions) {
	c := p.Counts
	total := c.Changing() + c.Same
	switch {
	case total == 0 && len(p.Blocked) > 0:
	case total == 0:
		o.Printf("Nothing is declared and nothing is recorded.\n")
	case c.Changing() == 0:
		are := map[bool]string{true: "the one resource is", false: fmt.Sprintf("all %d resources are",
			total)}[total == 1]
		if p.ChangesPolicy() {
			o.Printf("No resource would change: %s as declared.\n", are)
			break
		}
		o.Printf("Nothing to do: %s as declared.\n", are)
	default:
		var parts []string
		for _, x := range []struct {
			n    int
			word string
		}{{c.New, "new"}, {c.Adopt, "adopted"}, {c.Rename, "renamed"}, {c.Edit, "edited"}, {c.Release, "released"},
			{c.Swap, "swapped"}, {c.Drop, "dropped"}} {
			if x.n > 0 {
				parts = append(parts, fmt.Sprintf("%d %s", x.n, x.word))
			}
		}
		stay := "none stays as it is"
		if c.Same == 1 {
			stay = "1 stays as it is"
		} else if c.Same > 1 {
			stay = fmt.Sprintf("%d stay as they are", c.Same)
		}
		o.Printf("%s\n", Wrap(fmt.Sprintf("%d of %s would change: %s. %s.", c.Changing(), Count(total, "resource"),
			strings.Join(parts, ", "), strings.ToUpper(stay[:1])+stay[1:]), o.Width-2, "  "))
	}
	if p.LeftOut > 0 {
		o.Printf("-only left out %s.\n", Count(p.LeftOut, "resource"))
	}
	o.few("Loses data: ", p.Data)
	o.few("Touches security: ", p.Security)
	if len(p.NotAssured) > 0 {
		o.Printf("%s\n", Wrap("Not assured: "+strings.Join(p.NotAssured, "; ")+".", o.Width-2, "  "))
	}
	if line := forecastText(p.Forecast); line != "" {
		o.Printf("%s\n", Wrap(line, o.Width-2, "  "))
	}
	o.finds(p)
	o.costOf(p)
	o.rulesOf(p)
	o.StepsRan(p.Steps)
	for _, r := range p.Readings {
		o.Printf("%s\n", Wrap(fmt.Sprintf("Rests on %s of %s in %s, as its entry %d has it.", Clean(r.Name), Clean(r.From),
			Clean(r.Env), r.Entry), o.Width-2, "  "))
	}
	for _, line := range append(approvalLines(p), signedLines(opts.Signed)...) {
		o.Printf("%s\n", Wrap(line, o.Width-2, "  "))
	}
	if line := rehearsedText(p.Rehearsed); line != "" {
		o.Printf("%s\n", Wrap(line, o.Width-2, "  "))
	}
	for _, b := range p.Blocked {
		o.Printf("%s\n", o.Paint(vermilion, Wrap(fmt.Sprintf("Refused: %s.", Clean(b.Sentence())), o.Width-2, "  ")))
	}
}

// rehearsedText says which calls the clouds were asked about before the run.
func rehearsedText(r *propose.Rehearsed) string {
	if r == nil || r.Calls == 0 {
		return ""
	}
	tried := Count(r.Tried, "call")
	if r.Tried < r.Calls {
		tried = fmt.Sprintf("%d of %s", r.Tried, Count(r.Calls, "call"))
	}
	return fmt.Sprintf("Rehearsed: %s tried without effect, %d refused.", tried, r.Refused)
}

// finds tells what was looked up, and from where the answer is.
func (o *Out) finds(p *propose.Proposal) {
	for _, f := range p.Finds {
		name := strings.TrimSuffix(strings.TrimPrefix(f.Address, "find("), ")")
		text := ""
		switch f.From {
		case propose.FromLive:
			text = " is " + f.ID + ", live."
		case propose.FromLastRun:
			text = ": as the last run found it."
		case propose.FromLater:
			text = ": once that is known, in enact."
		case propose.FromNowhere:
			text = ": offline, and no run has looked it up yet."
		}
		o.Printf("%s\n", Wrap("Looked up: "+Clean(name+text), o.Width-2, "  "))
	}
}

func (o *Out) few(head string, addresses []string) {
	if len(addresses) == 0 {
		return
	}
	var names []string
	for _, a := range addresses {
		_, short := value.SplitWard(a)
		names = append(names, Clean(short))
	}
	o.Printf("%s\n", o.Paint(vermilion, Wrap(head+strings.Join(names, ", ")+".", o.Width-2, "  ")))
}

// forecastText says how long a proposal takes, and along which chain.
func forecastText(f propose.Forecast) string {
	chain := ""
	if n := len(f.Chain); n > 1 {
		chain = fmt.Sprintf("longest chain, %d deep: %s.", n, chainText(f.Chain))
	}
	if f.Seconds == nil {
		return strings.Replace(chain, "l", "L", 1)
	}
	line := "Takes about " + About(*f.Seconds)
	if f.Unknown > 0 {
		line += fmt.Sprintf(", without %s of a kind not seen yet", Count(f.Unknown, "action"))
	}
	if chain == "" {
		return line + "."
	}
	return line + "; " + chain
}

// About is a time as people estimate it.
func About(seconds float64) string {
	switch {
	case seconds < 1:
		return "a second"
	case seconds < 100:
		return fmt.Sprintf("%.0f s", seconds)
	case seconds < 100*60:
		return fmt.Sprintf("%.0f min", seconds/60)
	}
	return fmt.Sprintf("%.0f h", seconds/3600)
}

// chainText names the resources of a chain, without the middle of a long one.
func chainText(chain []string) string {
	seen := map[string]int{}
	for _, full := range chain {
		seen[lastName(full)]++
	}
	var names []string
	for i, full := range chain {
		if i == 3 && len(chain) > 5 {
			names = append(names, "…")
		}
		if i >= 3 && i < len(chain)-2 && len(chain) > 5 {
			continue
		}
		name := lastName(full)
		if seen[name] > 1 { // `machine/gauge`, as there is a `record/gauge` too
			typ := full[:len(full)-len(name)]
			name = typ[strings.LastIndexAny(typ, ".:")+1:] + name
		}
		names = append(names, Clean(name))
	}
	return strings.Join(names, ", ")
}

// lastName is what comes after an address's last slash.
func lastName(full string) string { return full[strings.LastIndexByte(full, '/')+1:] }

// Ago says how long ago something was.
func Ago(d time.Duration) string {
	switch {
	case d < 5*time.Second:
		return "just now"
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d days ago", int(d.Hours()/24))
}
