package alert

import (
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"slices"
	"strings"
	"time"
)

// Format is that of a List as JSON.
const Format = "kasbah.alerts/1"

// List is the JSON form of the alerts of an environment.
type List struct {
	Format string                `json:"format"`
	Env    string                `json:"env"`
	Alerts []*Alert              `json:"alerts"`
	Wards  map[string]WardStatus `json:"wards"` // that were surveyed
}

// WardStatus is how the last survey of a ward ended.
type WardStatus struct {
	At     time.Time      `json:"at"`
	Counts map[string]int `json:"counts"`
	Error  string         `json:"error,omitempty"`
	Next   *time.Time     `json:"next,omitempty"` // when it is due again; left out where it has no schedule
}

// Waiting reports whether an alert waits for somebody.
func (l *List) Waiting() bool {
	return slices.ContainsFunc(l.Alerts, func(a *Alert) bool { return a.Phase == Open })
}

// Alert is the alert of an id, or of the beginning of one; a *problem.UsageError where none or several are.
func (l *List) Alert(id string) (*Alert, error) {
	var hits []*Alert
	var known []string
	for _, a := range l.Alerts {
		if strings.HasPrefix(a.ID, strings.ToLower(id)) {
			hits = append(hits, a)
		}
		known = append(known, a.ID)
	}
	switch {
	case len(hits) == 1 && id != "":
		return hits[0], nil
	case len(hits) == 0:
		return nil, &problem.UsageError{Message: "no alert of " + l.Env + " is called " + id, Hint: nearest.Hint(id, known)}
	}
	return nil, problem.Usage("several alerts of %s begin with %s", l.Env, id)
}
