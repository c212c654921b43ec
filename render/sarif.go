package render

import (
	"encoding/json"
	"net/url"
	"strings"

	"kasbah/core/problem"
	"kasbah/core/rules"
)

// checkRule is the rule that everything is reported under which no house rule
// says.
const checkRule = "check"

const english = "en-US"

// The parts of a SARIF 2.1.0 log (OASIS) that are written here.
type (
	sarifLog struct {
		Schema  string     `json:"$schema"`
		Version string     `json:"version"`
		Runs    []sarifRun `json:"runs"`
	}
	sarifRun struct {
		Tool     sarifTool     `json:"tool"`
		Language string        `json:"language"`
		Results  []sarifResult `json:"results"`
	}
	sarifTool struct {
		Driver sarifDriver `json:"driver"`
	}
	sarifDriver struct {
		Name     string       `json:"name"`
		Version  string       `json:"version"`
		Language string       `json:"language"`
		Rules    []*sarifRule `json:"rules"`
	}
	sarifRule struct {
		ID               string     `json:"id"`
		ShortDescription sarifText  `json:"shortDescription"`
		Help             *sarifText `json:"help,omitempty"`
	}
	sarifText struct {
		Text string `json:"text"`
	}
	sarifResult struct {
		RuleID       string             `json:"ruleId"`
		RuleIndex    int                `json:"ruleIndex"`
		Kind         string             `json:"kind"`
		Level        string             `json:"level"`
		Message      sarifText          `json:"message"`
		Locations    []sarifLocation    `json:"locations,omitempty"`
		Suppressions []sarifSuppression `json:"suppressions,omitempty"`
	}
	sarifSuppression struct {
		Kind          string `json:"kind"`
		Justification string `json:"justification"`
	}
	sarifLocation struct {
		Physical sarifPhysical `json:"physicalLocation"`
	}
	sarifPhysical struct {
		Artifact sarifArtifact `json:"artifactLocation"`
		Region   *sarifRegion  `json:"region,omitempty"`
	}
	sarifArtifact struct {
		URI string `json:"uri"`
	}
	sarifRegion struct {
		StartLine   int `json:"startLine"`
		StartColumn int `json:"startColumn,omitempty"`
	}
)

// SARIF writes problems as a SARIF 2.1.0 log. Undecided rules are open
// results, excused ones carry their suppression.
func SARIF(list problem.List, program string) ([]byte, error) {
	return sarifOf(list, program, ruleSays)
}

// ruleSays says what stands behind a rule.
func ruleSays(rule string) string {
	if step, is := strings.CutPrefix(rule, rules.StepPrefix); is {
		return "step " + step
	}
	return "house rule " + rule
}

// sarifOf is SARIF with what each rule is about.
func sarifOf(list problem.List, program string, says func(rule string) string) ([]byte, error) {
	run := sarifRun{Tool: sarifTool{sarifDriver{Name: "kasbah", Version: program, Language: english,
		Rules: []*sarifRule{}}}, Language: english, Results: []sarifResult{}}
	known := map[string]int{}
	for _, p := range list {
		id, about := p.Rule, ""
		if id != "" {
			about = says(id)
		} else {
			id, about = checkRule, "mistakes that can be known offline"
		}
		at, is := known[id]
		if !is {
			at = len(known)
			known[id] = at
			run.Tool.Driver.Rules = append(run.Tool.Driver.Rules,
				&sarifRule{ID: id, ShortDescription: sarifText{about}})
		}
		if p.Rule != "" && p.Hint != "" {
			run.Tool.Driver.Rules[at].Help = &sarifText{p.Hint}
		}
		r := sarifResult{RuleID: id, RuleIndex: at, Kind: "fail", Level: string(p.Level),
			Message: sarifText{sarifMessage(p)}}
		switch p.Standing {
		case problem.Undecided:
			r.Kind, r.Level = "open", "none"
		case problem.Excused:
			r.Suppressions = []sarifSuppression{{"inSource", p.Message}}
		}
		if p.Position.File != "" {
			r.Locations = []sarifLocation{locationOf(p)}
		}
		run.Results = append(run.Results, r)
	}
	log := sarifLog{Schema: "https://json.schemastore.org/sarif-2.1.0.json", Version: "2.1.0", Runs: []sarifRun{run}}
	body, err := json.MarshalIndent(log, "", "  ")
	return append(body, '\n'), err
}

func sarifMessage(p *problem.Problem) string {
	s := Clean(p.Message)
	if p.Address != "" {
		s = Clean(p.Address) + ": " + s
	}
	if p.Hint != "" && p.Rule == "" {
		s += "; " + Clean(p.Hint)
	}
	return s
}

func locationOf(p *problem.Problem) sarifLocation {
	at := sarifPhysical{Artifact: sarifArtifact{(&url.URL{Path: p.Position.File}).EscapedPath()}}
	if p.Position.Line > 0 {
		at.Region = &sarifRegion{p.Position.Line, p.Position.Column}
	}
	return sarifLocation{at}
}
