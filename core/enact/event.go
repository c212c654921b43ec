package enact

import (
	"time"

	"kasbah/core/propose"
)

// EventFormat is the format of events, and ResultFormat that of results.
const (
	EventFormat  = "kasbah.event/1"
	ResultFormat = "kasbah.run/1"
)

// EventKind is what an event tells.
type EventKind string

const (
	EventBegin   EventKind = "begin"
	EventStart   EventKind = "start"
	EventDone    EventKind = "done"
	EventFailed  EventKind = "failed"
	EventRetry   EventKind = "retry"
	EventSkipped EventKind = "skipped"
	EventEnd     EventKind = "end"
	// it was about to be carried out when the run was to start nothing more
	EventNotBegun EventKind = "not begun"
)

// Event is a moment of a run: a line of JSON Lines.
type Event struct {
	Format  string       `json:"format"`
	Time    time.Time    `json:"time"`
	Kind    EventKind    `json:"event"`
	Ward    string       `json:"ward,omitempty"`
	Address string       `json:"address,omitempty"`
	Action  propose.Kind `json:"action,omitempty"`
	Half    string       `json:"half,omitempty"` // of a swap: make or remove
	Undo    bool         `json:"undo,omitempty"` // it is taken back
	Seconds float64      `json:"seconds"`
	Error   string       `json:"error,omitempty"` // Err's text
	Counts  Counts       `json:"counts"`

	Err error `json:"-"`
}

func (e *executor) event(ev Event) {
	if e.o.Event == nil {
		return
	}
	ev.Format, ev.Time, ev.Error = EventFormat, time.Now().UTC(), textOf(ev.Err)
	e.mu.Lock()
	defer e.mu.Unlock()
	ev.Counts = e.count()
	e.o.Event(ev)
}
