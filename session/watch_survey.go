package session

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/alert"
	"kasbah/core/ledger"
	"kasbah/core/rules"
	"kasbah/core/survey"
	"kasbah/core/value"
	"kasbah/core/watch"
)

// inWard does something in a session of one ward, as the estate's files are now.
func inWard(ctx context.Context, c Config, ward string, do func(*Session) error) (err error) {
	c.Wards = []string{ward}
	s, err := Open(ctx, c)
	if s != nil {
		defer func() { err = errors.Join(err, s.Close()) }()
	}
	if err != nil {
		return err
	}
	return do(s)
}

// surveyed surveys one ward, as the estate's files are now.
func surveyed(ctx context.Context, c Config, ward string) (found *watch.Found, err error) {
	err = inWard(ctx, c, ward, func(s *Session) error {
		states, failed := s.loadEach(ctx)
		if err := failed[ward]; err != nil { // nothing is known of what it records
			return err
		}
		r, err := s.surveyOf(ctx, states, failed, survey.Asked{})
		if err != nil {
			return err
		}
		if err := s.stepsSurveyed(ctx, r); err != nil {
			return err
		}
		all, err := s.foundIn(ctx, r, states)
		found = all[ward]
		return err
	})
	return found, err
}

// endsSoon is how long before its end an alert tells of a certificate or an excuse.
const endsSoon = 14 * 24 * time.Hour

// foundIn is what a survey found in wards whose ledgers could be read, as alerts have it.
func (s *Session) foundIn(ctx context.Context, r *survey.Report, states map[string]*ledger.State) (map[string]*watch.Found, error) {
	out := map[string]*watch.Found{}
	for ward := range states {
		out[ward] = drifted(r, ward)
		out[ward].Findings = append(out[ward].Findings, broken(r, ward)...)
	}
	now := time.Now()
	over, err := s.over(ctx, states, now)
	if err != nil {
		return nil, err
	}
	for _, w := range over {
		out[w.Ward].Findings = append(out[w.Ward].Findings, alert.Finding{Ward: w.Ward, Verdict: alert.Ending,
			Path:  "environment",
			Found: &value.Any{V: w.Ends.UTC().Format(time.RFC3339)}, Because: fmt.Sprintf("the time of %s was over at %s; `kasbah raze -ended -env %s` removes it",
				s.Env, w.Ends.UTC().Format(time.RFC3339), s.Env)})
	}
	endings, err := r.Endings(states, now, now.Add(endsSoon))
	for _, e := range endings {
		out[e.Ward].Findings = append(out[e.Ward].Findings, alert.Finding{Ward: e.Ward, Address: e.Address, Type: e.Type, Verdict: alert.Ending,
			Path: e.Path, Found: &value.Any{V: e.On}, Because: e.Because})
	}
	at := s.placesOf(ctx)
	for _, f := range out {
		for i := range f.Findings {
			if one := &f.Findings[i]; one.Address != "" && (one.Verdict == alert.Ending || one.Verdict == alert.Broken) {
				one.Position = at(value.InWard(one.Ward, one.Address), "")
			}
		}
	}
	return out, err
}

// over are the wards, of those with these states, if their environment's time is over.
func (s *Session) over(ctx context.Context, states map[string]*ledger.State, now time.Time) ([]ledger.WardStatus,
	error) {
	span := s.Estate.Ends(s.Env)
	if span == 0 {
		return nil, nil
	}
	var wards []ledger.WardStatus
	others := s.Others()
	for _, ward := range s.Estate.Wards { // a run over any of them counts
		st := states[ward]
		if st == nil {
			var err error
			if st, err = others.State(ctx, ward); err != nil {
				return nil, err
			}
		}
		is, err := s.wardStatus(ctx, st, ward)
		if err != nil {
			return nil, err
		}
		wards = append(wards, is)
	}
	ledger.EndAfter(wards, span, now)
	return slices.DeleteFunc(wards, func(w ledger.WardStatus) bool {
		return states[w.Ward] == nil || w.Ends == nil || w.Ends.After(now)
	}), nil
}

// broken are the house rules that what is live in a ward breaks, one finding for each rule and resource.
func broken(r *survey.Report, ward string) (out []alert.Finding) {
	at := map[string]int{} // of rule and address, in out
	for _, f := range r.Rules {
		if f.Ward != "" && f.Ward != ward || f.Verdict != rules.Broken && f.Verdict != rules.Failed {
			continue
		}
		key := f.Rule + " " + f.Address
		if i, there := at[key]; there {
			said := out[i].Because + "; " + f.Message
			out[i].Found, out[i].Because = &value.Any{V: said}, said
			continue
		}
		at[key] = len(out)
		out = append(out, alert.Finding{Ward: ward, Address: f.Address, Verdict: alert.Broken, Path: f.Rule, Found: &value.Any{V: f.Message},
			Because: f.Message, Position: f.RuleAt.Short()})
	}
	return out
}

// drifted is what is not as recorded in a ward.
func drifted(r *survey.Report, ward string) *watch.Found {
	out := &watch.Found{Unsure: map[string]bool{}, Counts: map[string]int{}}
	var failed []string // why something could not be looked at
	for _, res := range r.Resources {
		if res.Ward != ward {
			continue
		}
		out.Counts[string(res.Verdict)]++
		f := alert.Finding{Ward: res.Ward, Address: res.Address, Type: res.Type, Position: res.Position}
		switch res.Verdict {
		case survey.Unchecked:
			out.Unsure[res.Address] = true
			if res.Unread() && !slices.Contains(failed, res.Because) {
				failed = append(failed, res.Because)
			}
		case survey.Gone:
			f.Verdict, f.By, f.At = alert.Gone, res.By, res.At
			out.Findings = append(out.Findings, f)
		case survey.Differs:
			f.Verdict = alert.Differs
			for _, d := range res.Differences {
				if d.Accepted == nil {
					f.Path, f.Expected, f.Found, f.By, f.At = d.Path, &value.Any{V: d.Expected.V}, &value.Any{V: d.Found.V}, d.By, d.At
					if d.Position != "" {
						f.Position = d.Position
					}
					out.Findings = append(out.Findings, f)
				}
			}
		}
	}
	out.Failed = strings.Join(failed, "; ")
	return out
}
