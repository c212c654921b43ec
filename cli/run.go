package cli

import (
	"encoding/json"
	"fmt"
	"time"

	"kasbah/core/disk"
	"kasbah/core/enact"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/render"
)

// newRunDocument is the summary of a run that has ended. An idle proposal has
// no run.
func newRunDocument(proposal *propose.Proposal, f enactFlags, began time.Time, r *enact.Result) *render.RunDocument {
	d := &render.RunDocument{
		Format: "kasbah.run/1", Run: r.Run, Proposal: proposal.ID, Estate: proposal.Estate, Env: proposal.Env, Wards: []string{}, Reason: f.reason,
		Began: began.UTC().Truncate(time.Millisecond), Seconds: time.Since(began).Seconds(), Outcome: r.Outcome, Counts: r.Counts,
		Actions: []render.RunAction{}, Published: map[string]map[string]any{}, Undone: []render.RunUndone{}, Recovered: r.Recovered,
	}
	for _, w := range proposal.Wards {
		d.Wards = append(d.Wards, w.Ward)
	}
	for _, x := range r.Actions {
		one := render.RunAction{Ward: x.Action.Ward, Address: x.Action.Address, Action: string(x.Action.Kind), Outcome: x.Outcome, ID: x.ID, Seconds: x.Took.Seconds(), Position: x.Action.Position.Short()}
		if x.Err != nil {
			one.Error = x.Err.Error()
		}
		d.Actions = append(d.Actions, one)
	}
	for ward, values := range r.Published {
		d.Published[ward] = value.Clone(map[string]any(values)).(map[string]any)
	}
	for _, c := range r.Copies {
		d.Copies = append(d.Copies, render.RunCopy(c))
	}
	for _, u := range r.Undone {
		one := render.RunUndone{Ward: u.Ward, Address: u.Address, Was: u.Was, Made: u.Made}
		if u.Err != nil {
			one.Error = u.Err.Error()
		}
		d.Undone = append(d.Undone, one)
	}
	return d
}

// summarise writes the summary of a run where it is wanted.
func (a *app) summarise(f enactFlags, d *render.RunDocument) error {
	if f.form == "markdown" && !a.json {
		if _, err := a.buffer.Write(render.RunMarkdown(d)); err != nil {
			return err
		}
	}
	if f.summary == "" {
		return nil
	}
	body, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		return err
	}
	if err := disk.Replace(f.summary, append(body, '\n'), 0o600); err != nil {
		return fmt.Errorf("the run has ended (%s), but its summary could not be written: %w", d.Outcome, err)
	}
	return nil
}
