package render

import (
	"encoding/json"
	"net/url"

	"github.com/owenrumney/go-sarif/v3/pkg/report"
	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"

	"kasbah/core/problem"
)

// checkRule is the rule that everything is reported under which no house rule
// says.
const checkRule = "check"

// SARIF writes problems as a SARIF 2.1.0 log (OASIS). Undecided rules are
// open results, excused ones carry their suppression.
func SARIF(list problem.List, program string) ([]byte, error) {
	driver := sarif.NewToolComponent().WithName("kasbah").WithVersion(program)
	run := sarif.NewRun().WithTool(sarif.NewTool().WithDriver(driver))
	run.Results = []*sarif.Result{}
	for _, p := range list {
		id := p.Rule
		if id == "" {
			id = checkRule
		}
		rule := run.AddRule(id)
		if p.Rule == "" {
			rule.WithDescription("mistakes that can be known offline")
		} else if rule.ShortDescription == nil {
			rule.WithDescription("house rule " + p.Rule)
		}
		if p.Rule != "" && p.Hint != "" {
			rule.WithHelp(sarif.NewMultiformatMessageString().WithText(p.Hint))
		}
		result := run.CreateResultForRule(id).WithLevel(string(p.Level)).WithMessage(sarif.NewTextMessage(sarifText(p)))
		switch p.Standing {
		case problem.Undecided:
			result.WithKind("open").WithLevel("none")
		case problem.Excused:
			result.AddSuppression(sarif.NewSuppression().WithKind("inSource").WithJustification(p.Message))
		}
		if p.Position.File != "" {
			result.AddLocation(location(p))
		}
	}
	log := report.NewV210Report()
	log.AddRun(run)
	body, err := json.MarshalIndent(log, "", "  ")
	return append(body, '\n'), err
}

func sarifText(p *problem.Problem) string {
	s := Clean(p.Message)
	if p.Address != "" {
		s = Clean(p.Address) + ": " + s
	}
	if p.Hint != "" && p.Rule == "" {
		s += "; " + Clean(p.Hint)
	}
	return s
}

func location(p *problem.Problem) *sarif.Location {
	at := sarif.NewPhysicalLocation().WithArtifactLocation(sarif.NewSimpleArtifactLocation((&url.URL{Path: p.Position.File}).EscapedPath()))
	if p.Position.Line > 0 {
		region := sarif.NewRegion().WithStartLine(p.Position.Line)
		if p.Position.Column > 0 {
			region.WithStartColumn(p.Position.Column)
		}
		at.WithRegion(region)
	}
	return sarif.NewLocationWithPhysicalLocation(at)
}
