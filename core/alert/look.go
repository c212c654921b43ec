package alert

import (
	"slices"
	"strings"
	"time"

	"kasbah/core/value"
)

// Run is a run over a ward, as its ledger has it.
type Run struct {
	ID      string         `json:"run"`
	Ward    string         `json:"ward"`
	Who     string         `json:"who"`
	Host    string         `json:"host,omitempty"`
	Command string         `json:"command,omitempty"`
	Reason  string         `json:"reason,omitempty"`
	Began   time.Time      `json:"began"`
	Ended   *time.Time     `json:"ended,omitempty"`
	Outcome string         `json:"outcome"` // done, undone, failed, stopped, broken, open
	Counts  map[string]int `json:"counts,omitempty"`
	Failed  []string       `json:"failed,omitempty"` // what failed, each as `ADDRESS: why`
	Last    int64          `json:"last"`             // its newest entry in the ward's ledger
}

// Look is what a watcher has read in the ledger of a ward.
type Look struct {
	Env   string `json:"env"`
	Ward  string `json:"ward"`
	Entry int64  `json:"entry"`           // up to which it has read
	Ended []Run  `json:"ended,omitempty"` // that ended since the look before
	Dead  []Run  `json:"dead,omitempty"`  // that hold a lock and whose program is dead
	Alive []Run  `json:"alive,omitempty"` // that were taken for dead and are not
	Tell  bool   `json:"tell,omitempty"`  // there are receivers
}

// keptFailures is how much of what failed in a run an alert repeats.
const keptFailures = 5

// looked folds a look. Of several watchers that see one thing each, the first to write it counts.
func (s *State) looked(at time.Time, l *Look) {
	w := s.ward(l.Ward)
	for _, r := range l.Ended {
		if w.Entry != nil && r.Last <= *w.Entry {
			continue // another watcher has told of it
		}
		stale := staleLock(&r)
		s.resolve(at, l, stale.ID(l.Env), &r)
		failed := unfinished(&r)
		switch r.Outcome {
		case "failed":
			s.find(at, l, failed, &r)
			continue // its alert tells of it
		case "done", "undone":
			s.resolve(at, l, failed.ID(l.Env), &r)
		}
		if l.Tell {
			s.Outbox = append(s.Outbox, &Message{ID: r.ID + "." + r.Ward, At: at, Kind: RunEnded, Run: &r})
		}
	}
	for _, r := range l.Dead {
		s.find(at, l, staleLock(&r), &r)
	}
	for _, r := range l.Alive {
		stale := staleLock(&r)
		s.resolve(at, l, stale.ID(l.Env), &r)
	}
	if w.Entry == nil || *w.Entry < l.Entry {
		w.Entry = &l.Entry
	}
}

// unfinished is what a failed run leaves.
func unfinished(r *Run) Finding {
	because := slices.Clone(r.Failed)
	if len(because) > keptFailures {
		because = append(because[:keptFailures], "and more")
	}
	return Finding{Ward: r.Ward, Verdict: Unfinished, Found: &value.Any{V: r.ID}, Because: strings.Join(because, "; "), By: r.Who, At: r.Ended}
}

// staleLock is the lock of a dead program.
func staleLock(r *Run) Finding {
	return Finding{Ward: r.Ward, Verdict: Stale, Path: r.ID, Because: r.Command, By: r.Who, At: &r.Began}
}

// find opens an alert, or opens it again where something else is found.
func (s *State) find(at time.Time, l *Look, f Finding, r *Run) {
	id, kind := f.ID(l.Env), WasOpened
	if a := s.Alerts[id]; a != nil && a.Phase != Resolved {
		if a.Finding.same(&f) {
			return
		}
		kind = WasChanged
	}
	s.happens(at, l, &Event{Kind: kind, ID: id, Finding: &f}, r)
}

func (s *State) resolve(at time.Time, l *Look, id string, r *Run) {
	if a := s.Alerts[id]; a != nil && a.Phase != Resolved {
		s.happens(at, l, &Event{Kind: WasResolved, ID: id}, r)
	}
}

// happens folds an event that follows from a look. Its message has an id that every watcher would give it.
func (s *State) happens(at time.Time, l *Look, e *Event, r *Run) {
	if l.Tell {
		e.Message = strings.Join([]string{r.ID, r.Ward, e.ID, string(e.Kind)}, ".")
	}
	if s.happened(at, e) == "" && l.Tell {
		s.Outbox = append(s.Outbox, &Message{ID: e.Message, At: at, Kind: e.Kind, Alert: s.told(e.ID), Run: r})
	}
}

// News reports whether a look tells something that the journal does not know.
func (s *State) News(l *Look) bool {
	w := s.Wards[l.Ward]
	if w == nil || w.Entry == nil {
		return true
	}
	open := func(r *Run) bool {
		f := staleLock(r)
		a := s.Alerts[f.ID(l.Env)]
		return a != nil && a.Phase != Resolved
	}
	return slices.ContainsFunc(l.Ended, func(r Run) bool { return r.Last > *w.Entry }) ||
		slices.ContainsFunc(l.Dead, func(r Run) bool { return !open(&r) }) ||
		slices.ContainsFunc(l.Alive, func(r Run) bool { return open(&r) })
}
