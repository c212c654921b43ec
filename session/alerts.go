package session

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"kasbah/core/alert"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/survey"
	"kasbah/core/watch"
	"log/slog"
	"maps"
	"slices"
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

// Acknowledge writes down that a person knows of alerts, as ack has it: the person of the session, where it names none. It
// returns them as they are then.
func (s *Session) Acknowledge(ctx context.Context, ids []string, ack alert.Ack, command string) (*alert.List, error) {
	list, err := s.Alerts(ctx, false)
	if err != nil {
		return nil, err
	}
	ack.Who = cmp.Or(ack.Who, s.config.Identity.Who)
	var known []*alert.Alert
	var lines []ledger.Line
	for _, id := range ids {
		a, err := list.Alert(id)
		if err != nil {
			return nil, err
		}
		a.Phase, a.Ack = alert.Acknowledged, &ack
		known = append(known, a)
		e := &alert.Event{Kind: alert.WasAcknowledged, ID: a.ID, Ack: a.Ack}
		if len(s.Estate.Notify) > 0 {
			e.Message = ulid.Make().String()
		}
		lines = append(lines, ledger.Line{Kind: ledger.KindWatch, Watch: &alert.Line{Event: e}})
	}
	list.Alerts = known
	return list, s.writeJournal(ctx, command, ack.Why, lines...)
}

// writeJournal writes what a person says to the journal.
func (s *Session) writeJournal(ctx context.Context, command, why string, lines ...ledger.Line) error {
	id := ulid.Make().String()
	run, err := s.journal().Begin(ctx, ledger.BeginOptions{ID: id, Command: command, Reason: why,
		Scope: ledger.NewScope([]string{"person/" + id}, nil)})
	if err != nil {
		return err
	}
	return errors.Join(run.Append(ctx, lines...), run.End(ctx, ledger.End{Outcome: "done"}))
}

// WatchTokens lists the tokens of the watcher's page.
func (s *Session) WatchTokens(ctx context.Context) (*alert.TokenList, error) {
	st, err := s.journal().Load(ctx)
	if err != nil {
		return nil, err
	}
	if st.Watch == nil {
		return alert.NewState().TokenList(s.Env), nil
	}
	return st.Watch.TokenList(s.Env), nil
}

// NewWatchToken makes a token of the watcher's page, which is in the list it returns. One of that name is
// a *problem.UsageError.
func (s *Session) NewWatchToken(ctx context.Context, name, rights, command string) (*alert.TokenList, error) {
	list, err := s.WatchTokens(ctx)
	if err != nil {
		return nil, err
	}
	if slices.ContainsFunc(list.Tokens, func(t alert.Token) bool { return t.Name == name }) {
		return nil, problem.Usage("a token of %s is called %s already", s.Env, name)
	}
	t, err := alert.NewToken(name, rights, s.config.Identity.Who)
	if err != nil {
		return nil, err
	}
	kept := t
	kept.Token, t.Digest = "", ""
	list.Tokens = []alert.Token{t}
	return list, s.writeJournal(ctx, command, "", ledger.Line{Kind: ledger.KindWatch, Watch: &alert.Line{Token: &kept}})
}

// RevokeWatchToken takes a token of the watcher's page away, and returns those that are left.
func (s *Session) RevokeWatchToken(ctx context.Context, name, command string) (*alert.TokenList, error) {
	list, err := s.WatchTokens(ctx)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, t := range list.Tokens {
		names = append(names, t.Name)
	}
	if !slices.Contains(names, name) {
		return nil, &problem.UsageError{Message: fmt.Sprintf("no token of %s is called %s", s.Env, name), Hint: nearest.Hint(name, names)}
	}
	list.Tokens = slices.DeleteFunc(list.Tokens, func(t alert.Token) bool { return t.Name == name })
	return list, s.writeJournal(ctx, command, "", ledger.Line{Kind: ledger.KindWatch, Watch: &alert.Line{Token: &alert.Token{Name: name, Away: true}}})
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
