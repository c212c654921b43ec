package render

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strconv"
	"strings"

	"kasbah/core/chart"
	"kasbah/core/problem"
	"kasbah/core/survey"
	"kasbah/core/value"
)

// SurveyOptions are what a survey's forms say besides.
type SurveyOptions struct {
	Estate  string
	Program string       // its version
	Full    bool         // as text: everything
	Chart   *chart.Chart // for a page; nil for one without a map
}

// SurveyAs is a survey in one of its forms: text, json, markdown, sarif, junit or html.
func SurveyAs(form string, r *survey.Report, o SurveyOptions) ([]byte, error) {
	switch form {
	case "markdown":
		return surveyMarkdown(r), nil
	case "sarif":
		return surveySARIF(r, o.Program)
	case "junit":
		return surveyJUnit(r)
	case "html":
		return surveyPage(r, o.Estate, o.Chart), nil
	case "json":
		return asJSON(r)
	}
	return asText(func(out *Out) { out.Survey(r, o.Full) }), nil
}

// surveyMarkdown writes a survey as Markdown (CommonMark with tables): the counts, then what
// drifted by ward.
func surveyMarkdown(r *survey.Report) []byte {
	var b bytes.Buffer
	drifted := r.Counts.Differs + r.Counts.Gone
	fmt.Fprintf(&b, "## %s: %s drifted\n\n- %s\n", markdownText(r.Env), Count(drifted, "resource"),
		markdownText(surveySummary(r)))
	for _, f := range r.Failures {
		fmt.Fprintf(&b, "- %s was not surveyed: %s\n", markdownText(strings.TrimSpace(f.Ward+" "+f.Driver)),
			markdownText(f.Error))
	}
	for _, w := range r.Warnings {
		fmt.Fprintf(&b, "- %s\n", markdownText(w))
	}
	for i := range r.Rules {
		if p := r.Rules[i].Problem(); p.Standing == "" {
			fmt.Fprintf(&b, "- %s\n", markdownText(p.Error()))
		}
	}
	if text := StepsSaid(r.Steps); text != "" {
		fmt.Fprintf(&b, "- %s\n", markdownText(text))
	}
	row := func(cells ...string) {
		for i := range cells {
			cells[i] = strings.ReplaceAll(markdownText(cells[i]), "\n", " ")
		}
		fmt.Fprintf(&b, "| %s |\n", strings.Join(cells, " | "))
	}
	head := func() {
		b.WriteString("\n| verdict | resource | attribute | expected | found | who |\n|---|---|---|---|---|---|\n")
	}
	headed := false
	for _, res := range r.Resources {
		if res.Verdict == survey.Matches {
			continue
		}
		if !headed {
			head()
			headed = true
		}
		full := res.Ward + ":" + res.Address
		if len(res.Differences) == 0 {
			row(string(res.Verdict), full, strings.Join(res.Learned, ", "), "", res.Because, whoAt(res.By, res))
		}
		for _, d := range res.Differences {
			who := ""
			if d.By != "" {
				who = by(d.By, d.At)
			}
			row(string(res.Verdict), full, d.Path, shown(d.Expected.V, false), shown(d.Found.V, false), who)
		}
	}
	for _, x := range r.Strangers {
		if !headed {
			head()
			headed = true
		}
		who := ""
		if x.By != "" {
			who = by(x.By, x.At)
		}
		row("stranger", x.Type+" "+x.ID, "", "", x.Name, who)
	}
	return b.Bytes()
}

func whoAt(who string, res *survey.Resource) string {
	if who == "" {
		return ""
	}
	return by(who, res.At)
}

// driftRules say what each verdict means that SARIF reports.
var driftRules = map[string]string{
	"drift-differs": "a declared attribute is not as it was last enacted", "drift-gone": "a recorded thing is gone",
	"drift-unchecked": "a resource could not be compared", "drift-accepted": "a difference that a person accepts",
	"drift-stranger": "a thing that the estate does not record",
}

// surveySARIF writes a survey as a SARIF 2.1.0 log: what drifted as errors, and what could not
// be compared as warnings. Accepted drift carries its suppression.
func surveySARIF(r *survey.Report, program string) ([]byte, error) {
	var list problem.List
	add := func(verdict survey.Verdict, level problem.Level, res *survey.Resource, place, message string,
		a *survey.Acceptance) {
		p := &problem.Problem{Level: level, Rule: "drift-" + string(verdict), Ward: res.Ward,
			Address: res.Ward + ":" + res.Address, Message: message}
		if a != nil {
			p.Standing, p.Rule, p.Message = problem.Excused, "drift-accepted", message+"; "+accepted(a)
		}
		file, line, found := strings.Cut(place, ":")
		if n, err := strconv.Atoi(line); found && err == nil {
			p.Position = problem.Position{File: file, Line: n}
		}
		list = append(list, p)
	}
	for _, res := range r.Resources {
		switch res.Verdict {
		case survey.Gone, survey.Accepted, survey.Differs:
			if len(res.Differences) == 0 {
				message := "it is gone"
				if res.By != "" {
					message += ", deleted " + by(res.By, res.At)
				}
				add(survey.Gone, problem.Wrong, res, res.Position, message, res.Accepted)
			}
			for _, d := range res.Differences {
				message := fmt.Sprintf("%s: expected %s, found %s", d.Path, shown(d.Expected.V, false),
					shown(d.Found.V, false))
				if d.By != "" {
					message += ", " + by(d.By, d.At)
				}
				add(survey.Differs, problem.Wrong, res, d.Position, message, d.Accepted)
			}
		case survey.Unchecked:
			add(survey.Unchecked, problem.Warning, res, res.Position, res.Because, nil)
		}
	}
	for _, x := range r.Strangers {
		list = append(list, &problem.Problem{Level: problem.Warning, Rule: "drift-stranger", Address: x.Type + " " + x.ID,
			Message: "it is recorded nowhere in the estate"})
	}
	for i := range r.Rules {
		list = append(list, r.Rules[i].Problem())
	}
	return sarifOf(list, program, func(rule string) string {
		if says := driftRules[rule]; says != "" {
			return says
		}
		return ruleSays(rule)
	})
}

// The parts of a JUnit report that are written here.
type (
	junitSuites struct {
		XMLName  xml.Name     `xml:"testsuites"`
		Name     string       `xml:"name,attr"`
		Tests    int          `xml:"tests,attr"`
		Failures int          `xml:"failures,attr"`
		Errors   int          `xml:"errors,attr"`
		Suites   []junitSuite `xml:"testsuite"`
	}
	junitSuite struct {
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Errors   int         `xml:"errors,attr"`
		Skipped  int         `xml:"skipped,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Class   string     `xml:"classname,attr"`
		Name    string     `xml:"name,attr"`
		File    string     `xml:"file,attr,omitempty"`
		Failure *junitSays `xml:"failure"`
		Error   *junitSays `xml:"error"`
		Skipped *junitSays `xml:"skipped"`
	}
	junitSays struct {
		Message string `xml:"message,attr"`
		Type    string `xml:"type,attr,omitempty"`
		Text    string `xml:",chardata"`
	}
)

// surveyJUnit writes a survey as a JUnit report: a suite for each ward and a case for each
// resource, and one for rules and steps. Drift is a failure, and what blocks; what could not be checked is an error;
// what is accepted, or warns, is skipped.
func surveyJUnit(r *survey.Report) ([]byte, error) {
	all := junitSuites{Name: "survey of " + r.Env}
	suites := map[string]int{}
	suite := func(ward string) *junitSuite {
		at, known := suites[ward]
		if !known {
			at = len(all.Suites)
			suites[ward] = at
			all.Suites = append(all.Suites, junitSuite{Name: ward + ", " + r.Env})
		}
		return &all.Suites[at]
	}
	for _, res := range r.Resources {
		s := suite(res.Ward)
		c := junitCase{Class: res.Ward + "." + res.Type, Name: Clean(res.Address), File: res.Position}
		var lines []string
		for _, d := range res.Differences {
			line := fmt.Sprintf("%s: expected %s, found %s", d.Path, shown(d.Expected.V, false), shown(d.Found.V, false))
			if d.By != "" {
				line += ", " + by(d.By, d.At)
			}
			lines = append(lines, Clean(line))
		}
		says := &junitSays{Message: string(res.Verdict), Type: string(res.Verdict), Text: strings.Join(lines, "\n")}
		switch res.Verdict {
		case survey.Differs, survey.Gone:
			if res.By != "" {
				says.Message += " " + by(res.By, res.At)
			}
			c.Failure = says
			s.Failures++
		case survey.Unchecked:
			says.Message = Clean(res.Because)
			c.Error = says
			s.Errors++
		case survey.Accepted:
			says.Type = ""
			c.Skipped = says
			s.Skipped++
		}
		s.Tests++
		s.Cases = append(s.Cases, c)
	}
	for _, f := range r.Failures {
		name := strings.TrimSpace(f.Ward + " " + f.Driver)
		s := suite(name)
		s.Tests, s.Errors = s.Tests+1, s.Errors+1
		s.Cases = append(s.Cases, junitCase{Class: name, Name: "survey", Error: &junitSays{Message: Clean(f.Error)}})
	}
	for i := range r.Rules {
		p := r.Rules[i].Problem()
		if p.Standing != "" { // neither broken nor failed
			continue
		}
		s := suite("rules and steps")
		c := junitCase{Class: p.Rule, Name: Clean(strings.TrimPrefix(value.InWard(p.Ward, p.Address), ":")),
			File: p.Position.Short()}
		if c.Name == "" {
			c.Name = "the whole"
		}
		says := &junitSays{Message: Clean(p.Message)}
		if p.Level == problem.Wrong {
			says.Type = string(p.Level)
			c.Failure = says
			s.Failures++
		} else { // a warning fails nothing
			c.Skipped = says
			s.Skipped++
		}
		s.Tests++
		s.Cases = append(s.Cases, c)
	}
	for i := range all.Suites {
		s := &all.Suites[i]
		all.Tests, all.Failures, all.Errors = all.Tests+s.Tests, all.Failures+s.Failures, all.Errors+s.Errors
	}
	body, err := xml.MarshalIndent(all, "", "  ")
	return append(append([]byte(xml.Header), body...), '\n'), err
}
