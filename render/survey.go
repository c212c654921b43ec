package render

import (
	"fmt"
	"strings"
	"time"

	"kasbah/core/survey"
)

var verdictColours = map[survey.Verdict]Colour{survey.Differs: orange, survey.Gone: vermilion, survey.Unchecked: Grey}

// Survey writes a survey for people: what drifted, then the counts.
func (o *Out) Survey(r *survey.Report, full bool) {
	tells := func(res *survey.Resource) bool {
		return full || res.Verdict != survey.Matches || len(res.Security) > 0
	}
	column := 0
	for _, res := range r.Resources {
		if tells(res) {
			column = max(column, min(width(res.Ward+":"+res.Address), 60))
		}
	}
	told := false
	for _, res := range r.Resources {
		if !tells(res) {
			continue
		}
		told = true
		word := pad(string(res.Verdict), 11)
		if c, ok := verdictColours[res.Verdict]; ok {
			word = o.Paint(c, word)
		}
		tail := res.ID
		if res.Because != "" {
			tail = res.Because
		}
		if res.By != "" {
			tail += "  " + by(res.By, res.At)
		}
		o.Printf("%s%s  %s\n", word, pad(Clean(res.Ward+":"+res.Address), column), Clean(tail))
		for _, d := range res.Differences {
			line := fmt.Sprintf("             %s  expected %s, found %s", Clean(d.Path), shown(d.Expected.V, false),
				shown(d.Found.V, false))
			if d.By != "" {
				line += ", " + Clean(by(d.By, d.At))
			}
			o.Printf("             %s\n", Wrap(strings.TrimSpace(line), o.Width-15, "               "))
		}
		if len(res.AlsoMoved) > 0 {
			o.Printf("             %s\n",
				o.Paint(Grey, "also moved: "+Clean(strings.Join(res.AlsoMoved, ", "))+" (not declared)"))
		}
		if len(res.Security) > 0 {
			o.Printf("             %s\n", o.Paint(orange, "touches security: "+Clean(strings.Join(res.Security, ", "))))
		}
	}
	if told {
		o.Printf("\n")
	}
	for i := range r.Rules {
		o.Problem(r.Rules[i].Problem())
	}
	for _, w := range r.Warnings {
		o.Printf("warning: %s\n", Wrap(Clean(w), o.Width-9, "         "))
	}
	c := r.Counts
	total := c.Matches + c.Differs + c.Gone + c.Unchecked
	o.Printf("%s surveyed in %s: %d matches, %d differs, %d gone, %d unchecked.\n", Count(total, "resource"), r.Env,
		c.Matches, c.Differs, c.Gone, c.Unchecked)
}

func by(who string, at *time.Time) string {
	s := "by " + who
	if at != nil {
		s += " at " + at.Local().Format(time.DateTime)
	}
	return s
}
