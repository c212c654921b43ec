// Package alert keeps what surveys have found: one alert for each difference, from the survey that
// finds it first to the one that finds it no more. It is folded from the journal of an environment.
package alert

import (
	"crypto/sha256"
	"encoding/base32"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"time"

	"kasbah/core/value"
)

// What is found. Differs and Gone are the verdicts of a survey.
const (
	Differs = "differs"
	Gone    = "gone"
	Failed  = "failed" // the ward could not be surveyed several times in a row
	Broken  = "broken" // a house rule, which Path names, is broken by what is live
	Ending  = "ending" // a certificate, an excuse or an acceptance ends soon; Path names it

	Unfinished = "unfinished" // the last run over the ward failed
	Stale      = "stale"      // a dead program holds a lock; Path is its run
	Untold     = "untold"     // a receiver, which Path names, could not be told of alerts for a day
)

// Finding is what one survey found at one place.
type Finding struct {
	Ward     string     `json:"ward"`
	Address  string     `json:"address,omitempty"` // "" for all of the ward
	Type     string     `json:"type,omitempty"`    // with its driver
	Verdict  string     `json:"verdict"`
	Path     string     `json:"path,omitempty"` // of the attribute that differs
	Expected *value.Any `json:"expected,omitempty"`
	Found    *value.Any `json:"found,omitempty"`
	Because  string     `json:"because,omitempty"`
	By       string     `json:"by,omitempty"` // who changed it, if the cloud can tell
	At       *time.Time `json:"at,omitempty"`
	Position string     `json:"position,omitempty"` // where it is declared, as FILE:LINE
}

// ID is the identity of a finding in an environment: eight letters and digits, the same for every
// survey that finds it, whatever it finds there.
func (f *Finding) ID(env string) string {
	sum := sha256.Sum256([]byte(strings.Join([]string{env, f.Ward, f.Address, f.Verdict, f.Path}, "\x00")))
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:5]))
}

// Subject is what a finding is about: an address with its ward, and the path of an attribute; or a ward.
func (f *Finding) Subject() string {
	out := f.Ward
	if f.Address != "" {
		out = value.InWard(f.Ward, f.Address)
	}
	if f.Path != "" && f.Verdict != Stale {
		out = strings.TrimSpace(out + " " + f.Path)
	}
	return out
}

// same reports whether two findings of one identity are of the same thing.
func (f *Finding) same(o *Finding) bool {
	text := func(v *value.Any) string {
		if v == nil {
			return ""
		}
		return string(value.Encode(v.V))
	}
	return text(f.Found) == text(o.Found) && text(f.Expected) == text(o.Expected)
}

// Phase is how far an alert has come.
type Phase string

// An alert is open until a person acknowledges it, or until it is found no more.
const (
	Open         Phase = "open"
	Acknowledged Phase = "acknowledged"
	Resolved     Phase = "resolved"
)

// Alert is one finding over time.
type Alert struct {
	ID       string     `json:"id"`
	Phase    Phase      `json:"phase"`
	Finding  Finding    `json:"finding"` // the newest
	Opened   time.Time  `json:"opened"`
	Changed  time.Time  `json:"changed"` // when its phase or what is found was another one last
	Resolved *time.Time `json:"resolved,omitempty"`
	Ack      *Ack       `json:"acknowledgement,omitempty"`
	Steps    []Step     `json:"steps,omitempty"` // what happened to it, oldest first: the newest ones
}

// Step is one thing that happened to an alert.
type Step struct {
	At      time.Time  `json:"at"`
	Kind    EventKind  `json:"kind"`
	Found   *value.Any `json:"found,omitempty"` // of opened and changed
	Ack     *Ack       `json:"acknowledgement,omitempty"`
	Because string     `json:"because,omitempty"`
}

// Ack says that a person knows of an alert.
type Ack struct {
	Who   string `json:"who"`
	Why   string `json:"why"`
	Until string `json:"until,omitempty"` // the last day, as 2026-12-31; "" for as long as it stays as it is
}

// EventKind is what happened to an alert.
type EventKind string

// What happens to alerts.
const (
	WasOpened       EventKind = "opened"
	WasChanged      EventKind = "changed" // something else is found, or an acknowledgement has ended
	WasAcknowledged EventKind = "acknowledged"
	WasResolved     EventKind = "resolved" // it is found no more
	RunEnded        EventKind = "ended"    // a run, which no alert tells of
)

// Event is what happened to one alert.
type Event struct {
	Kind    EventKind `json:"kind"`
	ID      string    `json:"id"`                // of the alert
	Finding *Finding  `json:"finding,omitempty"` // of opened and changed
	Ack     *Ack      `json:"acknowledgement,omitempty"`
	Because string    `json:"because,omitempty"` // of changed, where nothing else is found
	// Message is the id under which receivers hear of it; "" where there are no receivers.
	Message string `json:"message,omitempty"`
}

// Delivery says that a message need not be sent to a receiver any more, or to none with "".
type Delivery struct {
	Message string `json:"message"`
	To      string `json:"to,omitempty"`
	GaveUp  string `json:"gave_up,omitempty"` // why it could not be delivered; "" for one that was
}

// Message is an event that others are told of.
type Message struct {
	ID    string          `json:"id"`
	At    time.Time       `json:"at"`
	Kind  EventKind       `json:"kind"`
	Alert Alert           `json:"alert,omitzero"` // as it was then; none for a run that ended well
	Run   *Run            `json:"run,omitempty"`  // that it is about
	Done  map[string]bool `json:"done,omitempty"` // receivers that need it no more
}

// groups are the names of events of alerts by their verdicts: a group, and what opening and changing are called.
var groups = map[string][2]string{Failed: {"survey", "failed"}, Broken: {"rule", "broken"}, Ending: {"validity", "ends"},
	Unfinished: {"run", "failed"}, Stale: {"lock", "stale"}}

const runEnded = "run.ended"

// Types are the names of all events.
func Types() []string {
	out := []string{"drift.opened", "drift.changed", "drift.acknowledged", "drift.resolved", runEnded}
	for _, g := range groups {
		for _, what := range []string{g[1], string(WasAcknowledged), string(WasResolved)} {
			out = append(out, g[0]+"."+what)
		}
	}
	slices.Sort(out)
	return out
}

// Type is the name of the event, such as drift.opened or run.failed.
func (m *Message) Type() string {
	group, is := groups[m.Alert.Finding.Verdict]
	switch {
	case m.Kind == RunEnded:
		return runEnded
	case !is:
		return "drift." + string(m.Kind)
	case m.Kind == WasOpened || m.Kind == WasChanged:
		return group[0] + "." + group[1]
	}
	return group[0] + "." + string(m.Kind)
}

// Subject is what the event is about: that of its alert, or the ward of a run.
func (m *Message) Subject() string {
	if m.Kind == RunEnded {
		return m.Run.Ward
	}
	return m.Alert.Finding.Subject()
}

// Ward is the ward that the event is about.
func (m *Message) Ward() string {
	if m.Kind == RunEnded {
		return m.Run.Ward
	}
	return m.Alert.Finding.Ward
}

// Claim takes a slot: the ward's survey that is due at a time.
type Claim struct {
	Ward string    `json:"ward"`
	Due  time.Time `json:"due"`
}

// Survey is how the survey of a ward ended.
type Survey struct {
	Ward    string         `json:"ward"`
	Due     *time.Time     `json:"due,omitempty"` // of the slot; nil for one that was asked for beside the schedule
	Seconds float64        `json:"seconds"`
	Counts  map[string]int `json:"counts"`          // resources by verdict
	Error   string         `json:"error,omitempty"` // why the ward could not be surveyed
}

// Line is one line of the journal: exactly one field is set.
type Line struct {
	Claim  *Claim  `json:"claim,omitempty"`
	Survey *Survey `json:"survey,omitempty"`
	Event  *Event  `json:"event,omitempty"`
	Look   *Look   `json:"look,omitempty"`
	Token  *Token  `json:"token,omitempty"`

	Delivery *Delivery `json:"delivery,omitempty"`
}

// Point is one survey in a ward's history: how many resources had which verdict. It is small, since many are kept.
type Point struct {
	At        time.Time `json:"at"`
	Matches   int32     `json:"matches,omitempty"`
	Differs   int32     `json:"differs,omitempty"`
	Gone      int32     `json:"gone,omitempty"`
	Unchecked int32     `json:"unchecked,omitempty"`
	Error     string    `json:"error,omitempty"` // its beginning
}

// Drift is how many resources were not as declared.
func (p *Point) Drift() int { return int(p.Differs + p.Gone) }

// keptError is how much of an error a history repeats, in bytes.
const keptError = 200

func point(at time.Time, v *Survey) Point {
	p := Point{At: at, Matches: int32(v.Counts["matches"]), Differs: int32(v.Counts[Differs]), Gone: int32(v.Counts[Gone]),
		Unchecked: int32(v.Counts["unchecked"]), Error: v.Error}
	if len(p.Error) > keptError {
		p.Error = strings.ToValidUTF8(p.Error[:keptError], "") + "…"
	}
	return p
}

// Ward is what the journal knows of a ward.
type Ward struct {
	Claim    *Claim     `json:"claim,omitempty"` // the slot that is being surveyed
	By       string     `json:"by,omitempty"`    // the run that has claimed it
	Done     *time.Time `json:"done,omitempty"`  // the newest slot that was surveyed
	Last     *Survey    `json:"last,omitempty"`
	At       time.Time  `json:"at"` // when Last ended
	Failures int        `json:"failures,omitempty"`
	History  []Point    `json:"history,omitempty"` // oldest first
	Entry    *int64     `json:"entry,omitempty"`   // of its ledger, up to which watchers have told of runs; nil before the first look
}

// What is kept: a ward's newest surveys, and resolved alerts for some time.
const (
	keptPoints   = 200
	keptResolved = 30 * 24 * time.Hour
	keptMessages = 48 * time.Hour // watchers give up before
	keptSteps    = 30
)

// State is the fold of a journal.
type State struct {
	Alerts map[string]*Alert `json:"alerts"`
	Wards  map[string]*Ward  `json:"wards"`
	Outbox []*Message        `json:"outbox,omitempty"` // what is still to be told, oldest first
	Tokens map[string]Token  `json:"tokens,omitempty"` // of the watcher's page, by name
}

// NewState is that of an empty journal.
func NewState() *State { return &State{Alerts: map[string]*Alert{}, Wards: map[string]*Ward{}} }

// UnmarshalJSON reads a state and puts empty maps in place of missing ones: another program may have written it.
func (s *State) UnmarshalJSON(body []byte) error {
	type plain State
	if err := json.Unmarshal(body, (*plain)(s)); err != nil {
		return err
	}
	if s.Alerts == nil {
		s.Alerts = map[string]*Alert{}
	}
	if s.Wards == nil {
		s.Wards = map[string]*Ward{}
	}
	maps.DeleteFunc(s.Alerts, func(_ string, a *Alert) bool { return a == nil })
	maps.DeleteFunc(s.Wards, func(_ string, w *Ward) bool { return w == nil })
	s.Outbox = slices.DeleteFunc(s.Outbox, func(m *Message) bool { return m == nil || m.Kind == RunEnded && m.Run == nil })
	return nil
}

func (s *State) ward(name string) *Ward {
	w := s.Wards[name]
	if w == nil {
		w = &Ward{}
		s.Wards[name] = w
	}
	return w
}

// Claimed reports whether a run has a slot.
func (s *State) Claimed(c Claim, run string) bool {
	w := s.Wards[c.Ward]
	return w != nil && w.Claim != nil && w.By == run && w.Claim.Due.Equal(c.Due)
}

// Free reports whether a slot can be claimed.
func (s *State) Free(c Claim) bool {
	w := s.Wards[c.Ward]
	return w == nil || w.Claim == nil && (w.Done == nil || w.Done.Before(c.Due))
}

// Fold takes a line that a run has written at a time. It returns why the line counts for nothing; ""
// for one that counts.
func (s *State) Fold(at time.Time, run string, l *Line) (ignored string) {
	switch {
	case l.Claim != nil:
		if s.Free(*l.Claim) { // else another one was first
			w := s.ward(l.Claim.Ward)
			w.Claim, w.By = l.Claim, run
		}
	case l.Survey != nil:
		return s.surveyed(at, run, l.Survey)
	case l.Event != nil:
		if s.known(l.Event) {
			return ""
		}
		ignored = s.happened(at, l.Event)
		if ignored == "" && l.Event.Message != "" {
			s.Outbox = append(s.Outbox, &Message{ID: l.Event.Message, At: at, Kind: l.Event.Kind, Alert: s.told(l.Event.ID)})
		}
	case l.Look != nil:
		s.looked(at, l.Look)
	case l.Token != nil:
		s.token(at, l.Token)
	case l.Delivery != nil:
		s.delivered(l.Delivery)
	}
	return ignored
}

// delivered takes a message out of the outbox, or notes whom it has reached.
func (s *State) delivered(d *Delivery) {
	i := slices.IndexFunc(s.Outbox, func(m *Message) bool { return m.ID == d.Message })
	if i < 0 {
		return // another watcher has told it as well
	}
	if d.To == "" {
		s.Outbox = slices.Delete(slices.Clone(s.Outbox), i, i+1)
		return
	}
	m := *s.Outbox[i]
	m.Done = maps.Clone(m.Done)
	if m.Done == nil {
		m.Done = map[string]bool{}
	}
	m.Done[d.To] = true
	s.Outbox = slices.Clone(s.Outbox)
	s.Outbox[i] = &m
}

func (s *State) surveyed(at time.Time, run string, v *Survey) string {
	w := s.ward(v.Ward)
	if v.Due != nil {
		if !s.Claimed(Claim{v.Ward, *v.Due}, run) {
			return "it ends a survey of " + v.Ward + " that its run has not claimed"
		}
		w.Claim, w.By, w.Done = nil, "", v.Due
	}
	w.Last, w.At = v, at
	if w.Failures++; v.Error == "" {
		w.Failures = 0
	}
	w.History = append(w.History, point(at, v))
	if n := len(w.History) - keptPoints; n > 0 {
		w.History = slices.Clone(w.History[n:])
	}
	for id, a := range s.Alerts {
		if a.Resolved != nil && at.Sub(*a.Resolved) > keptResolved {
			delete(s.Alerts, id)
		}
	}
	s.Outbox = slices.DeleteFunc(s.Outbox, func(m *Message) bool { return at.Sub(m.At) > keptMessages })
	return ""
}

// told is an alert as messages have it, without what happened to it before.
func (s *State) told(id string) Alert {
	out := *s.Alerts[id]
	out.Steps = nil
	return out
}

// known reports whether an event tells what two surveys at once have found, and one has told.
func (s *State) known(e *Event) bool {
	a := s.Alerts[e.ID]
	return e.Kind == WasOpened && e.Finding != nil && a != nil && a.Phase != Resolved && a.Finding.same(e.Finding)
}

func (s *State) happened(at time.Time, e *Event) string {
	a := s.Alerts[e.ID]
	switch {
	case e.Kind == WasOpened && e.Finding != nil:
		var before []Step
		if a != nil {
			before = a.Steps
		}
		a = &Alert{ID: e.ID, Phase: Open, Finding: *e.Finding, Opened: at, Steps: before}
		s.Alerts[e.ID] = a
	case a == nil || a.Phase == Resolved:
		return "it tells of the alert " + e.ID + ", which is not open"
	case e.Kind == WasChanged:
		if a.Phase, a.Ack = Open, nil; e.Finding != nil {
			a.Finding = *e.Finding
		}
	case e.Kind == WasAcknowledged:
		a.Phase, a.Ack = Acknowledged, e.Ack
	case e.Kind == WasResolved:
		a.Phase, a.Ack, a.Resolved = Resolved, nil, &at
	default:
		return "it tells of an alert what is not known: " + string(e.Kind)
	}
	a.Changed = at
	step := Step{At: at, Kind: e.Kind, Ack: e.Ack, Because: e.Because}
	if e.Finding != nil {
		step.Found = e.Finding.Found
	}
	a.Steps = append(slices.Clip(a.Steps[max(0, len(a.Steps)+1-keptSteps):]), step) // messages hold what was there before
	return ""
}

// Release gives back what a run has claimed: it has ended, or was taken for dead.
func (s *State) Release(run string) {
	for _, w := range s.Wards {
		if w.By == run {
			w.Claim, w.By = nil, ""
		}
	}
}

// Clone is a copy that does not move with s.
func (s *State) Clone() *State {
	out := NewState()
	for id, a := range s.Alerts {
		alert := *a
		out.Alerts[id] = &alert
	}
	for name, w := range s.Wards {
		ward := *w
		ward.History = slices.Clip(w.History) // what is appended to either is not seen in the other
		out.Wards[name] = &ward
	}
	out.Outbox, out.Tokens = slices.Clone(s.Outbox), maps.Clone(s.Tokens)
	return out
}

// Sorted lists alerts by phase, open ones first, then by ward, address and path.
func (s *State) Sorted() []*Alert {
	order := map[Phase]int{Open: 0, Acknowledged: 1, Resolved: 2}
	out := make([]*Alert, 0, len(s.Alerts))
	for _, id := range value.Keys(s.Alerts) {
		out = append(out, s.Alerts[id])
	}
	slices.SortStableFunc(out, func(a, b *Alert) int {
		if c := order[a.Phase] - order[b.Phase]; c != 0 {
			return c
		}
		return strings.Compare(a.Finding.place(), b.Finding.place())
	})
	return out
}

// surveyed reports whether a survey finds such a thing.
func (f *Finding) surveyed() bool { return f.Verdict != Unfinished && f.Verdict != Stale }

// place is where a finding is, in the order of lists.
func (f *Finding) place() string { return f.Ward + "\x00" + f.Address + "\x00" + f.Path }

// Compare says what the survey of a ward changes: what it found for the first time, what is another one
// now, and what it finds no more. unsure is what it could not look at; that stays as it is known. What
// ledgers tell of is not its matter. today is a day, as 2026-12-31.
func (s *State) Compare(env, ward string, found []Finding, unsure func(*Finding) bool, today string) []Event {
	var out []Event
	now := map[string]bool{}
	for i := range found {
		f := &found[i]
		id := f.ID(env)
		now[id] = true
		switch a := s.Alerts[id]; {
		case a == nil || a.Phase == Resolved:
			out = append(out, Event{Kind: WasOpened, ID: id, Finding: f})
		case !f.same(&a.Finding):
			out = append(out, Event{Kind: WasChanged, ID: id, Finding: f})
		case a.Ack != nil && a.Ack.Until != "" && a.Ack.Until < today:
			out = append(out, Event{Kind: WasChanged, ID: id, Because: "it was acknowledged until " + a.Ack.Until})
		}
	}
	for _, id := range value.Keys(s.Alerts) {
		a := s.Alerts[id]
		if a.Phase != Resolved && a.Finding.Ward == ward && !now[id] && a.Finding.surveyed() && !unsure(&a.Finding) {
			out = append(out, Event{Kind: WasResolved, ID: id})
		}
	}
	return out
}
