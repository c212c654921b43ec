package rules

import (
	"slices"

	"kasbah/core/problem"
)

// Document is the JSON form of what the rules say.
type Document struct {
	Format   string    `json:"format"`
	Env      string    `json:"env"`
	Rules    []RuleDoc `json:"rules"`
	Findings []Finding `json:"findings"`
}

// RuleDoc is one rule and how often it said what.
type RuleDoc struct {
	Name      string  `json:"name"`
	Help      string  `json:"help"`
	Level     Level   `json:"level"`
	At        []Stage `json:"at"`
	Whole     bool    `json:"whole"`
	File      string  `json:"file"`
	Line      int     `json:"line"`
	Passed    int     `json:"passed"`
	Broken    int     `json:"broken"`
	Undecided int     `json:"undecided"`
	Excused   int     `json:"excused"`
	Failed    int     `json:"failed"`
}

// NewDocument sums up what rules said at some stages.
func NewDocument(env string, all []*Rule, reports ...*Report) Document {
	d := Document{Format: "kasbah.rules/1", Env: env, Rules: []RuleDoc{}, Findings: []Finding{}}
	at := map[string]int{}
	for _, r := range all {
		at[r.Name] = len(d.Rules)
		d.Rules = append(d.Rules, RuleDoc{Name: r.Name, Help: r.Help, Level: r.Level, At: r.At, Whole: r.Whole(),
			File: r.Position.File, Line: r.Position.Line})
	}
	for _, report := range reports {
		d.Findings = append(d.Findings, report.Findings...)
		for _, t := range report.Tallies {
			r := &d.Rules[at[t.Rule.Name]]
			r.Passed, r.Broken, r.Undecided, r.Excused, r.Failed = r.Passed+t.Passed, r.Broken+t.Broken,
				r.Undecided+t.Undecided, r.Excused+t.Excused, r.Failed+t.Failed
		}
	}
	return d
}

// Once leaves out how a rule stands to something at one stage when the same
// is told at another.
func Once(list problem.List) problem.List {
	var out problem.List
	seen := map[string]bool{}
	for i := len(list) - 1; i >= 0; i-- { // the later stages come last
		p := list[i]
		key := p.Rule + " " + p.Ward + " " + p.Address
		if p.Standing != "" && seen[key] {
			continue
		}
		seen[key] = true
		out = append(out, p)
	}
	slices.Reverse(out)
	return out
}
