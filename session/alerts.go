package session

import (
	"context"
	"errors"
	"kasbah/core/alert"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/survey"
	"kasbah/core/watch"
	"log/slog"
	"maps"
	"time"

	"github.com/oklog/ulid/v2"
)

// Alerts lists the alerts of the session's environment; resolved ones as well with all.
func (s *Session) Alerts(ctx context.Context, all bool) (*alert.List, error) {
	st, err := s.journal().Load(ctx)
	if err != nil {
		return nil, err
	}
	out := &alert.List{Format: alert.Format, Env: s.Env, Alerts: []*alert.Alert{}, Wards: map[string]alert.WardStatus{}}
	if st.Watch == nil {
		return out, nil
	}
	for _, a := range st.Watch.Sorted() {
		if all || a.Phase != alert.Resolved {
			out.Alerts = append(out.Alerts, a)
		}
	}
	for name, w := range st.Watch.Wards {
		if w.Last == nil {
			continue
		}
		status := alert.WardStatus{At: w.At, Counts: w.Last.Counts, Error: w.Last.Error}
		if plan := s.Estate.Schedule(s.Env, name); plan != nil {
			if next := plan.Next(time.Now()); !next.IsZero() {
				status.Next = &next
			}
		}
		out.Wards[name] = status
	}
	return out, nil
}

// Acknowledge says that somebody knows of alerts, why that is enough, and until which day; "" for as
// long as they stay as they are. It returns them as they are then.
func (s *Session) Acknowledge(ctx context.Context, ids []string, why, until, command string) (*alert.List, error) {
	list, err := s.Alerts(ctx, false)
	if err != nil {
		return nil, err
	}
	var known []*alert.Alert
	var lines []ledger.Line
	for _, id := range ids {
		a, err := list.Alert(id)
		if err != nil {
			return nil, err
		}
		a.Phase, a.Ack = alert.Acknowledged, &alert.Ack{Who: s.config.Identity.Who, Why: why, Until: until}
		known = append(known, a)
		e := &alert.Event{Kind: alert.WasAcknowledged, ID: a.ID, Ack: a.Ack}
		if len(s.Estate.Notify) > 0 {
			e.Message = ulid.Make().String()
		}
		lines = append(lines, ledger.Line{Kind: ledger.KindWatch, Watch: &alert.Line{Event: e}})
	}
	id := ulid.Make().String()
	run, err := s.journal().Begin(ctx, ledger.BeginOptions{ID: id, Command: command, Reason: why,
		Scope: ledger.NewScope([]string{"person/" + id}, nil)})
	if err != nil {
		return nil, err
	}
	list.Alerts = known
	return list, errors.Join(run.Append(ctx, lines...), run.End(ctx, ledger.End{Outcome: "done"}))
}

// Record notes what a survey saw in the records, and what it found among the alerts: of whole wards, as
// asked says. It returns how many records were written.
func (s *Session) Record(ctx context.Context, r *survey.Report, asked survey.Asked, o enact.Options) (int, error) {
	n, err := enact.RecordSeen(ctx, r.Seen, o)
	if err != nil || len(asked.Only) > 0 || !asked.Since.IsZero() {
		return n, err
	}
	states, failed := s.loadEach(ctx)
	for _, f := range r.Failures {
		failed[f.Ward] = errors.New(f.Error)
	}
	maps.DeleteFunc(states, func(ward string, _ *ledger.State) bool { return failed[ward] != nil })
	found, err := s.foundIn(ctx, r, states)
	if err != nil {
		return n, err
	}
	receivers, err := s.receivers(s.Estate)
	if err != nil {
		return n, err
	}
	return n, watch.Options{Env: s.Env, Journal: s.journal(), Command: o.Command, Clock: realTime{}, Log: slog.New(slog.DiscardHandler),
		Receivers: receivers}.Note(ctx, found) // a watcher tells them
}
