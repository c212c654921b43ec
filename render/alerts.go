package render

import (
	"fmt"
	"strings"
	"time"

	"kasbah/core/alert"
	"kasbah/core/value"
)

// Alerts lists alerts, and when each ward was surveyed.
func (o *Out) Alerts(l *alert.List) {
	counts := map[alert.Phase]int{}
	for _, a := range l.Alerts {
		counts[a.Phase]++
		o.alert(a)
	}
	column := 0
	for ward := range l.Wards {
		column = max(column, width(ward))
	}
	for _, ward := range value.Keys(l.Wards) {
		w := l.Wards[ward]
		text := "surveyed at " + w.At.Local().Format(time.DateTime)
		if w.Error != "" {
			text = o.Paint(vermilion, "could not be surveyed at "+w.At.Local().Format(time.DateTime)+": "+Clean(w.Error))
		} else {
			text += fmt.Sprintf(", %d of %d drifted", w.Counts[alert.Differs]+w.Counts[alert.Gone], total(w.Counts))
		}
		if w.Next != nil {
			text += "; due again at " + w.Next.Local().Format(time.DateTime)
		}
		o.Printf("%s  %s\n", o.Bold(pad(Clean(ward), column)), Wrap(text, o.Width-2-column, strings.Repeat(" ", column+2)))
	}
	if len(l.Wards) == 0 {
		o.Printf("No ward of %s was surveyed by a watcher yet: `kasbah watch -once -env %s` does it.\n", l.Env, l.Env)
		return
	}
	text := fmt.Sprintf("%d open, %d acknowledged in %s", counts[alert.Open], counts[alert.Acknowledged], l.Env)
	if n := counts[alert.Resolved]; n > 0 {
		text += fmt.Sprintf(", %d resolved", n)
	}
	o.Printf("%s.\n", text)
}

func total(counts map[string]int) int {
	n := 0
	for _, c := range counts {
		n += c
	}
	return n
}

// phaseColours are those of alerts.
var phaseColours = map[alert.Phase]Colour{alert.Open: vermilion, alert.Acknowledged: Blue, alert.Resolved: Grey}

// alert writes one as a paragraph.
func (o *Out) alert(a *alert.Alert) {
	f := a.Finding
	o.Printf("%s  %s  %s\n", o.Paint(phaseColours[a.Phase], fmt.Sprintf("%-12s", a.Phase)), a.ID, o.Bold(Clean(f.Subject())))
	o.Printf("              %s\n", Wrap(Clean(Finding(&f)), o.Width-14, "              "))
	switch {
	case a.Ack != nil:
		text := fmt.Sprintf("%s: %s", a.Ack.Who, a.Ack.Why)
		if a.Ack.Until != "" {
			text += ", until " + a.Ack.Until
		}
		o.Printf("              %s\n", Wrap(Clean(text), o.Width-14, "              "))
	case a.Resolved != nil:
		o.Printf("              found no more since %s\n", a.Resolved.Local().Format(time.DateTime))
	}
}

// Finding says what was found.
func Finding(f *alert.Finding) string {
	text := ""
	switch f.Verdict {
	case alert.Gone:
		text = "is gone"
	case alert.Failed, alert.Ending:
		text = f.Because
	case alert.Broken:
		text = "breaks the rule: " + f.Because
	case alert.Unfinished:
		text = strings.TrimSuffix("the run "+plainOf(f.Found)+" failed: "+f.Because, ": ")
	case alert.Stale:
		text = fmt.Sprintf("the run %s holds a lock, and its program is dead: `%s`; a run with -break-stale takes the lock away",
			f.Path, f.Because)
	case alert.Untold:
		text = "could not be told for a day: " + f.Because
	default:
		text = fmt.Sprintf("expected %s, found %s", plainOf(f.Expected), plainOf(f.Found))
	}
	if f.By != "" {
		text += ", " + by(f.By, f.At)
	}
	if f.Position != "" {
		text += " (" + f.Position + ")"
	}
	return text
}

// Step says what happened to an alert.
func Step(s *alert.Step) string {
	text := string(s.Kind)
	if s.Found != nil {
		text += ": found " + plainOf(s.Found)
	}
	if s.Ack != nil {
		text += fmt.Sprintf(" by %s: %s", s.Ack.Who, s.Ack.Why)
		if s.Ack.Until != "" {
			text += ", until " + s.Ack.Until
		}
	}
	if s.Because != "" {
		text += ": " + s.Because
	}
	return text
}

func plainOf(v *value.Any) string {
	if v == nil {
		return "nothing"
	}
	return shown(v.V, false)
}

// Alert writes the only alert of a list with all that is known of it.
func (o *Out) Alert(l *alert.List) {
	a := l.Alerts[0]
	o.alert(a)
	for _, s := range a.Steps {
		o.Printf("              %s  %s\n", s.At.Local().Format(time.DateTime), Wrap(Clean(Step(&s)), o.Width-35, strings.Repeat(" ", 35)))
	}
}

// Acknowledged says what was acknowledged.
func (o *Out) Acknowledged(l *alert.List) {
	for _, a := range l.Alerts {
		o.alert(a)
	}
	o.Printf("%s acknowledged.\n", Count(len(l.Alerts), "alert"))
}

// WatchTokens lists tokens of the watcher's page; a new one with what is shown once.
func (o *Out) WatchTokens(l *alert.TokenList) {
	var rows [][]string
	for _, t := range l.Tokens {
		if t.Token != "" {
			o.Printf("%s\n", t.Token)
			o.Printf("That is the token %s of %s; it is not shown again.\n", t.Name, l.Env)
			return
		}
		rows = append(rows, []string{Clean(t.Name), t.Rights, t.Made.Local().Format(time.DateTime), Clean(t.By)})
	}
	o.Listing([]string{"name", "may", "made", "by"}, rows, "The watcher's page has no tokens in "+l.Env+".")
}
