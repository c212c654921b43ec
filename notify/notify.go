// Package notify tells receivers of alerts: webhooks, people by mail, and programs. Each gets the event in
// the JSON form of CloudEvents 1.0 (cloudevents.io), people in words.
package notify

import (
	"encoding/json"
	"path"
	"slices"
	"time"

	"kasbah/core/alert"
)

// Filter says which events a receiver gets.
type Filter struct {
	Events []string // patterns of events, such as drift.*; none for all
	Ward   string   // whose; "" for all
}

// Wants reports whether a message is of the ward, and a pattern fits its event.
func (f Filter) Wants(m *alert.Message) bool {
	if f.Ward != "" && f.Ward != m.Ward() {
		return false
	}
	return len(f.Events) == 0 || slices.ContainsFunc(f.Events, func(pattern string) bool {
		fits, err := path.Match(pattern, m.Type())
		return fits && err == nil
	})
}

// event is a CloudEvent in structured JSON.
type event struct {
	Spec    string    `json:"specversion"`
	ID      string    `json:"id"`
	Source  string    `json:"source"`
	Type    string    `json:"type"`
	Subject string    `json:"subject"`
	Time    time.Time `json:"time"`
	Content string    `json:"datacontenttype"`
	Data    data      `json:"data"`
}

// Format is that of the data of an event.
const Format = "kasbah.told/1"

type data struct {
	Format string       `json:"format"`
	Env    string       `json:"env"`
	Alert  *alert.Alert `json:"alert,omitempty"` // none for a run that ended well
	Run    *alert.Run   `json:"run,omitempty"`
}

// Source is where events come from: an environment of an estate.
type Source struct{ Estate, Env string }

// encode writes the event of a message. Its id stays the same however often it is sent.
func (s Source) encode(m *alert.Message) ([]byte, error) {
	d := data{Format: Format, Env: s.Env, Run: m.Run}
	if m.Alert.ID != "" {
		d.Alert = &m.Alert
	}
	return json.Marshal(event{Spec: "1.0", ID: m.ID, Source: "/" + s.Estate + "/" + s.Env, Type: m.Type(), Subject: m.Subject(),
		Time: m.At.UTC(), Content: "application/json", Data: d})
}
