package render

import (
	"fmt"
	"strings"

	"kasbah/core/chart"
	"kasbah/core/problem"
	"kasbah/core/survey"
	"kasbah/core/value"
)

// surveyWords are the verdicts as a page shows them, worst first, and the class that colours each.
var surveyWords = []struct {
	verdict survey.Verdict
	class   string
}{
	{survey.Gone, "drop"}, {survey.Differs, "edit"}, {survey.Unchecked, "same"}, {survey.Accepted, "same"},
	{survey.Learned, "same"},
}

// surveyPage writes a survey as one HTML file that needs nothing else: what drifted by ward,
// with expected and found side by side, who and when. It is of use without scripts too.
func surveyPage(r *survey.Report, estate string, drawn *chart.Chart) []byte {
	w := &page{}
	c := r.Counts
	title := fmt.Sprintf("%s, %s: %s drifted", estate, r.Env, Count(c.Differs+c.Gone, "resource"))
	w.open(title)
	w.put("<ul class=\"counts\">")
	for _, x := range []struct {
		class string
		n     int
		word  string
	}{
		{"drop", c.Gone, "gone"}, {"edit", c.Differs, "differ"}, {"same", c.Unchecked, "unchecked"},
		{"same", c.Accepted, "accepted"}, {"same", c.Learned, "learned"}, {"new", c.Stranger, "strangers"},
		{"same", c.Matches, "match"},
	} {
		if x.n > 0 || x.word == "match" {
			w.put(`<li class="k-%s"><b>%s</b> %s</li>`, x.class, fmt.Sprint(x.n), x.word)
		}
	}
	w.put("</ul>\n<p>%s</p>\n", surveySummary(r))
	for _, f := range r.Failures {
		w.put("<p class=\"alarm\">%s was not surveyed: %s</p>\n", strings.TrimSpace(f.Ward+" "+f.Driver), f.Error)
	}
	for _, x := range r.Warnings {
		w.put("<p>%s</p>\n", x)
	}
	for i := range r.Rules {
		if p := r.Rules[i].Problem(); p != nil {
			class := "alarm"
			if p.Level == problem.Note {
				class = "note"
			}
			w.put("<p class=\"%s\">%s</p>\n", class, p.Error())
		}
	}
	if text := StepsSaid(r.Steps); text != "" {
		w.put("<p>%s</p>\n", text)
	}
	w.put("</header>\n")
	for i, res := range r.Resources {
		if res.Verdict != survey.Matches {
			w.identify(value.InWard(res.Ward, res.Address), i)
		}
	}
	if drawn != nil {
		w.drawing(drawn)
	}
	w.put("<main>\n")
	w.drifted(r)
	w.strangers(r.Strangers)
	w.close()
	return w.Bytes()
}

// drifted writes what drifted by ward, the worst first.
func (w *page) drifted(r *survey.Report) {
	byWard := map[string]map[survey.Verdict][]*survey.Resource{}
	var wards []string
	told := 0
	for _, res := range r.Resources {
		if res.Verdict == survey.Matches {
			continue
		}
		told++
		if byWard[res.Ward] == nil {
			byWard[res.Ward] = map[survey.Verdict][]*survey.Resource{}
			wards = append(wards, res.Ward)
		}
		byWard[res.Ward][res.Verdict] = append(byWard[res.Ward][res.Verdict], res)
	}
	for _, ward := range wards {
		w.put("<section>\n<h2>%s <small>%s</small></h2>\n", ward, r.Env)
		for _, word := range surveyWords {
			for _, res := range byWard[ward][word.verdict] {
				w.resource(res, word.class, told <= pageOpen)
			}
		}
		w.put("</section>\n")
	}
	if told == 0 {
		w.put("<p>Nothing drifted.</p>\n")
	}
}

func (w *page) resource(res *survey.Resource, class string, open bool) {
	w.put(`<details class="action" id="%s" data-kind="%s"`, w.ids[value.InWard(res.Ward, res.Address)], class)
	if open {
		w.put(" open")
	}
	w.put(`><summary><b class="word k-%s">%s</b><span class="address">%s</span>`, class, string(res.Verdict), res.Address)
	if res.Because != "" {
		w.put(`<span class="why">%s</span>`, res.Because)
	}
	w.mark(len(res.Security) > 0, "security")
	w.put("<span class=\"at\">%s</span></summary>\n", res.Position)
	if len(res.Differences) > 0 {
		w.put("<table><thead><tr><th>attribute<th>expected<th>found<th>who</thead><tbody>\n")
		for _, d := range res.Differences {
			who := ""
			if d.By != "" {
				who = by(d.By, d.At)
			}
			w.put("<tr><th>%s ", d.Path)
			w.mark(d.Accepted != nil, "accepted")
			w.put("<td class=\"was\">%s<td>%s<td>%s</tr>\n", shown(d.Expected.V, false), shown(d.Found.V, false), who)
		}
		w.put("</tbody></table>\n")
	}
	var notes []string
	if res.By != "" {
		notes = append(notes, "Deleted "+by(res.By, res.At)+".")
	}
	if res.Accepted != nil {
		notes = append(notes, "It is "+accepted(res.Accepted)+".")
	}
	for _, d := range res.Differences {
		if d.Accepted != nil {
			notes = append(notes, d.Path+" is "+accepted(d.Accepted)+".")
		}
	}
	for _, x := range []struct {
		head string
		list []string
	}{{"New in its driver", res.Learned}, {"Also moved, not declared", res.AlsoMoved}, {"Touches security",
		res.Security}} {
		if len(x.list) > 0 {
			notes = append(notes, x.head+": "+strings.Join(x.list, ", ")+".")
		}
	}
	if res.ID != "" {
		notes = append(notes, "Its id is "+res.ID+".")
	}
	if len(notes) > 0 {
		w.put("<p class=\"note\">%s</p>\n", strings.Join(notes, " "))
	}
	w.put("</details>\n")
}

func (w *page) strangers(list []survey.Stranger) {
	if len(list) == 0 {
		return
	}
	w.put("<section>\n<h2>Strangers <small>recorded nowhere in the estate</small></h2>\n<table><thead><tr><th>type" +
		"<th>id<th>name<th>made</thead><tbody>\n")
	for _, x := range list {
		who := ""
		if x.By != "" {
			who = by(x.By, x.At)
		}
		w.put("<tr><th>%s<td>%s<td>%s<td>%s</tr>\n", x.Type, x.ID, x.Name, who)
	}
	w.put("</tbody></table>\n</section>\n")
}
