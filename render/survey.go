package render

import (
	"fmt"
	"strings"
	"time"

	"kasbah/core/survey"
)

var verdictColours = map[survey.Verdict]Colour{survey.Differs: orange, survey.Gone: vermilion, survey.Unchecked: Grey,
	survey.Learned: Grey, survey.Accepted: Grey}

// Survey writes a survey for people: what drifted, equal findings together unless full is set,
// then what could not be told, and the counts.
func (o *Out) Survey(r *survey.Report, full bool) {
	column := 0
	var groups []*survey.Group
	for _, g := range r.Groups() {
		if len(g.Resources) > Alike && !full {
			groups = append(groups, g)
			continue
		}
		for _, res := range g.Resources {
			groups = append(groups, &survey.Group{Resources: []*survey.Resource{res}})
		}
	}
	for _, res := range r.Resources {
		if full || res.Verdict != survey.Matches {
			column = max(column, min(width(res.Ward+":"+res.Address), 60))
		}
	}
	for _, g := range groups {
		o.surveyed(g, column)
	}
	for _, res := range r.Resources {
		if full && res.Verdict == survey.Matches && len(res.Security) == 0 {
			o.surveyed(&survey.Group{Resources: []*survey.Resource{res}}, column)
		}
	}
	for _, x := range r.Strangers {
		tail := x.ID
		if x.By != "" {
			tail += "  " + by(x.By, x.At)
		}
		o.Printf("%s%s  %s\n", o.Paint(orange, pad("stranger", 11)), Clean(strings.TrimSpace(x.Type+" "+x.Name)),
			Clean(tail))
	}
	if len(groups) > 0 || len(r.Strangers) > 0 || full && len(r.Resources) > 0 {
		o.Printf("\n")
	}
	for i := range r.Rules {
		o.Problem(r.Rules[i].Problem())
	}
	o.StepsRan(r.Steps)
	for _, f := range r.Failures {
		what := "ward " + f.Ward
		if f.Driver != "" {
			what = "driver " + f.Driver
		}
		o.Printf("%s\n", Wrap(fmt.Sprintf("%s was not surveyed: %s", what, Clean(f.Error)), o.Width-4, "    "))
	}
	for _, w := range r.Warnings {
		o.Printf("warning: %s\n", Wrap(Clean(w), o.Width-9, "         "))
	}
	o.Printf("%s\n", Wrap(surveySummary(r), o.Width, ""))
}

// surveyed writes a group of resources of which the same is said.
func (o *Out) surveyed(g *survey.Group, column int) {
	res := g.Resources[0]
	word := pad(string(res.Verdict), 11)
	if c, ok := verdictColours[res.Verdict]; ok {
		word = o.Paint(c, word)
	}
	tail := Clean(res.Because)
	long := ""
	if column+len(tail)+len("unchecked    ") > o.Width { // it goes below
		tail, long = "", tail
	}
	if len(g.Resources) > 1 {
		who := strings.TrimPrefix(groupBy(g), ", ")
		head := fmt.Sprintf("%d %s", len(g.Resources), res.Type)
		if tail != "" {
			head += ": " + tail
		}
		if len(res.Differences) == 0 && who != "" {
			head += "  " + who
		}
		o.Printf("%s%s\n", word, Clean(head))
	} else {
		if tail == "" && long == "" {
			tail = Clean(res.ID)
		}
		if res.By != "" {
			tail += "  " + Clean(by(res.By, res.At))
		}
		if len(res.Differences) == 0 && res.Position != "" {
			tail += "  " + o.Paint(Grey, res.Position)
		}
		o.Printf("%s%s  %s\n", word, pad(Clean(res.Ward+":"+res.Address), column), tail)
	}
	note := func(c Colour, text string) {
		o.Printf("             %s\n", o.Paint(c, Wrap(Clean(text), o.Width-15, "               ")))
	}
	if long != "" {
		note(Grey, long)
	}
	for _, d := range res.Differences {
		line := fmt.Sprintf("%s  expected %s, found %s", d.Path, shown(d.Expected.V, false), shown(d.Found.V, false))
		switch {
		case len(g.Resources) > 1:
			line += groupBy(g)
		case d.By != "":
			line += ", " + by(d.By, d.At)
		}
		if d.Position != "" && len(g.Resources) == 1 {
			line += "  " + d.Position
		}
		o.Printf("             %s\n", Wrap(Clean(line), o.Width-15, "               "))
		if d.Accepted != nil {
			note(Grey, accepted(d.Accepted))
		}
	}
	if res.Accepted != nil {
		note(Grey, accepted(res.Accepted))
	}
	if len(res.Learned) > 0 {
		note(Grey, "new in its driver: "+strings.Join(res.Learned, ", "))
	}
	if len(res.AlsoMoved) > 0 && len(g.Resources) == 1 {
		note(Grey, "also moved: "+strings.Join(res.AlsoMoved, ", ")+" (not declared)")
	}
	if len(res.Security) > 0 {
		note(orange, "touches security: "+strings.Join(res.Security, ", "))
	}
}

func accepted(a *survey.Acceptance) string {
	return fmt.Sprintf("accepted until %s by %s: %s", a.Until, a.Who, a.Why)
}

// groupBy says who changed the resources of a group, and when.
func groupBy(g *survey.Group) string {
	if len(g.By) == 0 {
		return ""
	}
	s := ", by " + strings.Join(g.By, ", ")
	if g.First == nil {
		return s
	}
	first, last := g.First.Local(), g.Last.Local()
	switch {
	case first.Equal(last):
		return s + " at " + first.Format(time.DateTime)
	case first.Format(time.DateOnly) == last.Format(time.DateOnly):
		return s + ", " + first.Format(time.DateTime) + " to " + last.Format(time.TimeOnly)
	}
	return s + ", " + first.Format(time.DateTime) + " to " + last.Format(time.DateTime)
}

// surveySummary counts the verdicts.
func surveySummary(r *survey.Report) string {
	c := r.Counts
	total := c.Matches + c.Differs + c.Gone + c.Unchecked + c.Learned + c.Accepted
	s := fmt.Sprintf("%s surveyed in %s: %d matches, %d differs, %d gone, %d unchecked", Count(total, "resource"), r.Env,
		c.Matches, c.Differs, c.Gone, c.Unchecked)
	for _, x := range []struct {
		n    int
		word string
	}{{c.Learned, "learned"}, {c.Accepted, "accepted"}} {
		if x.n > 0 {
			s += fmt.Sprintf(", %d %s", x.n, x.word)
		}
	}
	if c.Ignored > 0 {
		s += fmt.Sprintf("; %s ignored", Count(c.Ignored, "difference"))
	}
	if c.Stranger > 0 {
		s += fmt.Sprintf("; %s", Count(c.Stranger, "stranger"))
	}
	return s + "."
}

func by(who string, at *time.Time) string {
	s := "by " + who
	if at != nil {
		s += " at " + at.Local().Format(time.DateTime)
	}
	return s
}
