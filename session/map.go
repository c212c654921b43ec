package session

import (
	"context"
	"strings"

	"kasbah/core/chart"
	"kasbah/core/problem"
	"kasbah/core/survey"
)

// Charting says what a map shows.
type Charting struct {
	At     chart.At
	Facts  bool  // what is known of each node is noted
	Around bool  // what is looked up is shown as well
	Inputs *bool // so are inputs and published values; nil for where there are few resources
}

// fewInputs is up to how many resources a map shows inputs and published values unasked.
const fewInputs = 200

// Chart charts the session's wards. What is declared is asked offline; all else reads the ledgers, and what is live or
// proposed the clouds. Declarations that are wrong hide nothing of what is recorded or live.
func (s *Session) Chart(ctx context.Context, o Charting) (*chart.Chart, problem.List, error) {
	from := chart.Sources{Estate: s.Estate.Name, Env: s.Env, Currency: s.Estate.Prices.Currency, Catalogs: s.Catalogs, Facts: o.Facts}
	others := s.Others()
	e, err := s.EvaluateMoved(ctx, others)
	if err != nil {
		return nil, nil, err
	}
	wrong := e.Remarks().Err() // what breaks a rule can be drawn
	switch {
	case o.At == chart.Proposed && e.Problems.Err() != nil:
		return nil, nil, e.Problems.Err()
	case o.At == chart.Declared && wrong != nil:
		return nil, nil, wrong
	}
	if from.Declared = e.Declared; wrong != nil {
		from.Declared = nil
	}
	if o.At != chart.Declared {
		if from.States, err = s.States(ctx); err != nil {
			return nil, nil, err
		}
	}
	switch o.At {
	case chart.Live:
		if from.Report, err = s.surveyOf(ctx, from.States, map[string]error{}, survey.Asked{}); err != nil {
			return nil, nil, err
		}
		for _, f := range from.Report.Failures {
			s.tell("%s was not surveyed: %s", strings.TrimSpace(f.Ward+" "+f.Driver), f.Error)
		}
	case chart.Proposed:
		if err := s.SecretProblems(ctx, e.Declared, problem.Wrong).Err(); err != nil {
			return nil, nil, err
		}
		if from.Proposal, err = s.ProposeFrom(ctx, others, e, from.States, Request{Rehearse: "never"}); err != nil {
			return nil, nil, err
		}
	}
	c, err := chart.New(o.At, from)
	if err != nil || from.Declared == nil {
		return c, e.Remarks(), err
	}
	if o.Around {
		c.AddFinds(from.Declared)
	}
	if o.Inputs != nil && *o.Inputs || o.Inputs == nil && o.Around && len(c.Nodes) <= fewInputs {
		err = c.AddInputs(from.Declared, o.Facts)
	}
	return c, e.Remarks(), err
}

// SurveyChart charts what a survey found.
func (s *Session) SurveyChart(ctx context.Context, r *survey.Report) (*chart.Chart, error) {
	from := chart.Sources{Estate: s.Estate.Name, Env: s.Env, States: r.States, Report: r}
	if e, err := s.Evaluate(ctx, s.Others()); err == nil && e.Problems.Wrong() == 0 {
		from.Declared = e.Declared
	} else if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return chart.New(chart.Live, from)
}
