package enact

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"kasbah/core/disk"
	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/steps"
	"kasbah/core/value"
)

// Counts are how far a run is. Total counts actions; a swap's halves are one.
type Counts struct {
	Total      int `json:"total"`
	Done       int `json:"done"`
	Failed     int `json:"failed"`
	NotBegun   int `json:"not_begun"`
	Unfinished int `json:"unfinished"` // of which a part is done, and nothing failed
	Unclear    int `json:"unclear"`    // calls whose end is not known
	Undone     int `json:"undone"`     // of those done, taken back
}

// Result is how a run ended.
type Result struct {
	Format    string                      `json:"format"`
	Run       string                      `json:"run"`      // "" when there was nothing to do
	Proposal  string                      `json:"proposal"` // id
	Estate    string                      `json:"estate"`
	Env       string                      `json:"env"`
	Wards     []string                    `json:"wards"`
	Reason    string                      `json:"reason,omitempty"`
	Began     time.Time                   `json:"began"`
	Seconds   float64                     `json:"seconds"`
	Outcome   string                      `json:"outcome"` // done, failed, stopped, undone
	Counts    Counts                      `json:"counts"`
	Actions   []ActionResult              `json:"actions"`          // by ward and address, same left out
	Published map[string]value.Attributes `json:"published"`        // by ward
	Undone    []Undone                    `json:"undone"`           // what was taken back, or could not be
	Copies    []Copied                    `json:"copies,omitempty"` // that were kept of what was removed
	// addresses whose unfinished calls were found out about first
	Recovered []string `json:"recovered,omitempty"`

	Steps []steps.Ran `json:"steps,omitempty"` // that ran before and after it, and how each ended

	Failures []*problem.Problem `json:"-"`
	Resumed  int                `json:"-"` // of those done, the actions that earlier runs of the same proposal did

	runs map[string]*ledger.Run // by ward; they have ended
}

// newResult is the result of carrying out a proposal, of which nothing is known yet.
func newResult(p *propose.Proposal) *Result {
	r := &Result{
		Format: ResultFormat, Proposal: p.ID, Estate: p.Estate, Env: p.Env, Wards: []string{},
		Began:   time.Now().UTC().Truncate(time.Millisecond),
		Outcome: "done", Actions: []ActionResult{}, Published: map[string]value.Attributes{}, Undone: []Undone{},
	}
	r.Steps = append(r.Steps, p.Steps...)
	for _, w := range p.Wards {
		r.Wards = append(r.Wards, w.Ward)
	}
	return r
}

// NothingToDo is the result of an idle proposal, which needs no run.
func NothingToDo(p *propose.Proposal, reason string) *Result {
	r := newResult(p)
	r.Reason = reason
	return r
}

// Ran notes which steps ran once the run had ended, here and in the ledgers.
func (r *Result) Ran(ctx context.Context, ran []steps.Ran) error {
	r.Steps = append(r.Steps, ran...)
	if len(ran) == 0 {
		return nil
	}
	var errs []error
	for _, w := range value.Keys(r.runs) {
		if err := r.runs[w].After(ctx, steps.Texts(ran)); err != nil {
			errs = append(errs, fmt.Errorf("the run has ended (%s), but its ledger could not note the steps that ran "+
				"after it: %w", r.Outcome, err))
		}
	}
	return errors.Join(errs...)
}

// MayGoOn reports whether the same command can get further than the run did: not where
// all that failed was refused for good, and would be again. kept says that the proposal
// is from a file, which a hand edit outdates.
func (r *Result) MayGoOn(kept bool) bool {
	if r.Outcome == "stopped" {
		return true
	}
	for _, a := range r.Actions {
		var said *driver.Error
		switch {
		case a.Err == nil, errors.Is(a.Err, errUntold):
		case errors.Is(a.Err, errOvertaken):
			if !kept {
				return true
			}
		case !errors.As(a.Err, &said) || !said.NotDone || said.Passing || errors.Is(a.Err, errUnclear):
			return true
		}
	}
	return len(r.Failures) == 0
}

// Copied is a copy that was kept of a thing before it was removed.
type Copied struct {
	Ward    string `json:"ward"`
	Address string `json:"address"`
	ID      string `json:"id"` // of the copy, in the cloud
}

// ActionResult is what became of one action.
type ActionResult struct {
	Ward     string       `json:"ward"`
	Address  string       `json:"address"`
	Kind     propose.Kind `json:"action"`
	Outcome  string       `json:"outcome"`         // done, failed, unclear, unfinished, not begun, undone
	ID       string       `json:"id,omitempty"`    // of the thing afterwards
	Seconds  float64      `json:"seconds"`         // its calls took, waiting for the cloud included
	Error    string       `json:"error,omitempty"` // Err's text
	Position string       `json:"position,omitempty"`

	Err error `json:"-"` // nil unless it failed
}

// Refused is returned when a run is refused before it acted: exit code 5.
type Refused struct {
	Reasons  []string
	Outdated bool // what the proposal rests on has changed since: another one may do
}

// Error is all reasons on lines of their own.
func (r *Refused) Error() string {
	s := ""
	for i, x := range r.Reasons {
		if i > 0 {
			s += "\n"
		}
		s += x
	}
	return s
}

// textOf is an error's text; "" for none.
func textOf(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// WriteTo writes the result into a file, as JSON; nowhere for "".
func (r *Result) WriteTo(file string) error {
	if file == "" {
		return nil
	}
	body, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return err
	}
	if err := disk.Replace(file, append(body, '\n'), 0o600); err != nil {
		return fmt.Errorf("the run has ended (%s), but its summary could not be written: %w", r.Outcome, err)
	}
	return nil
}
