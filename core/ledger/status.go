package ledger

import (
	"fmt"
	"time"
)

// Status is the state of an estate.
type Status struct {
	Format string       `json:"format"`
	Estate string       `json:"estate"`
	Wards  []WardStatus `json:"wards"`
}

// WardStatus is the state of a ward in an environment.
type WardStatus struct {
	Ward      string      `json:"ward"`
	Env       string      `json:"env"`
	Resources int         `json:"resources"`
	Last      *RunSummary `json:"last,omitempty"`
	Locked    *Holder     `json:"locked,omitempty"`
	Ends      *time.Time  `json:"ends,omitempty"` // when the environment is to go
	Next      string      `json:"next"`           // the command that makes sense now
}

// EndAfter says when an environment of wards is to go: a span after the last run over any of them. Nothing is said
// of one in which nothing ran.
func EndAfter(wards []WardStatus, span time.Duration, now time.Time) {
	var last time.Time
	for _, w := range wards {
		if w.Last != nil && w.Last.Ended != nil && w.Last.Ended.After(last) {
			last = *w.Last.Ended
		}
	}
	if last.IsZero() || span == 0 {
		return
	}
	ends := last.Add(span)
	for i := range wards {
		if wards[i].Resources == 0 {
			continue
		}
		if wards[i].Ends = &ends; wards[i].Locked == nil && !ends.After(now) {
			wards[i].Next = "kasbah raze -ended"
		}
	}
}

// StatusOf is the status of a ward by its ledger and the last run over it, nil for none.
func StatusOf(ward, env string, s *State, last *RunSummary) WardStatus {
	// A ward may read others that have not run yet: all of them are proposed.
	is := WardStatus{Ward: ward, Env: env, Resources: len(s.Records), Last: last, Next: "kasbah propose -env " + env}
	if last != nil {
		of := *last
		of.Ward = ward
		is.Last = &of
		is.Next = fmt.Sprintf("kasbah survey %s -env %s", ward, env)
	}
	if h := s.Holders(); len(h) > 0 {
		holder := HolderOf(ward, h[0])
		is.Locked = &holder
		is.Next = "kasbah lock -env " + env
	} else if len(s.Unresolved()) > 0 || last != nil && last.Outcome != "done" {
		is.Next = fmt.Sprintf("kasbah enact %s -env %s", ward, env)
	}
	return is
}
