package drivertest

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sort"
	"strings"
	"sync"
	"time"
)

// SignalsDocument describes Signals.
const SignalsDocument = `openapi: 3.1.0
info: {title: signals, version: "1"}
paths:
  /lamps:
    get: {responses: {"200": {description: "", content: {application/json: {schema: {type: array, items: {$ref: "#/components/schemas/Lamp"}}}}}}}
  /lamps/{quay}/{no}:
    parameters:
    - {name: quay, in: path, required: true, schema: {type: string}}
    - {name: no, in: path, required: true, schema: {type: integer}}
    get: {responses: {"200": {description: "", content: {application/json: {schema: {$ref: "#/components/schemas/Lamp"}}}}}}
    put: {requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Lamp"}}}}, responses: {"204": {description: ""}}}
    delete: {responses: {"204": {description: ""}}}
  /alarms:
    post: {requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Alarm"}}}}, responses: {"201": {description: ""}}}
  /alarms/{id}:
    put: {requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Alarm"}}}}, responses: {"204": {description: ""}}}
    delete: {responses: {"204": {description: ""}}}
  /notes:
    post: {requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/Note"}}}}, responses: {"201": {description: "", content: {application/json: {schema: {$ref: "#/components/schemas/Note"}}}}}}
  /notes/{id}:
    get: {responses: {"200": {description: "", content: {application/json: {schema: {$ref: "#/components/schemas/Note"}}}}}}
    patch: {requestBody: {content: {application/json: {schema: {type: array, items: {$ref: "#/components/schemas/Change"}}}}}, responses: {"200": {description: "", content: {application/json: {schema: {$ref: "#/components/schemas/Note"}}}}}}
    delete: {responses: {"204": {description: ""}}}
components:
  schemas:
    Lamp: {type: object, required: [quay, no, blink], properties: {quay: {type: string}, no: {type: integer}, blink: {type: string}, rest: {type: string, format: duration}, watts: {type: integer}, serial: {type: string, readOnly: true}}}
    Alarm: {type: object, required: [name, tone], properties: {id: {type: string, readOnly: true}, name: {type: string}, tone: {type: string}, loud: {type: boolean}}}
    Change: {type: object, properties: {op: {type: string}, path: {type: string}, value: {}}}
    Note: {type: object, required: [text], properties: {id: {type: string, readOnly: true}, text: {type: string}, keeper: {type: string}}}
`

// SignalsOverlay says of Signals what its document does not.
const SignalsOverlay = `overlay: 1.0.0
info: {title: signals, version: "1"}
actions:
- target: $.paths['/lamps']
  update: {x-kasbah: {type: lamp, item: "/lamps/{quay}/{no}", id: [quay, no], properties: {blink: {same: duration}}}}
- target: $.paths['/alarms']
  update: {x-kasbah: {type: alarm, read: none, name-stays: 24h, properties: {tone: {fixed: true}}}}
- target: $.paths['/notes']
  update: {x-kasbah: {type: note, lists: none}}
`

// Signals is an API of lamps that a quay and a number identify together, and whose durations
// and numbers it writes in its own way; of alarms that it never shows, and whose names stay
// taken; and of notes that are shown one by one.
type Signals struct {
	mu     sync.Mutex
	lamps  map[string]map[string]any
	alarms map[string]map[string]any
	taken  map[string]bool
	notes  map[string]map[string]any
	n      int
}

// NewSignals is one that holds nothing.
func NewSignals() *Signals {
	return &Signals{lamps: map[string]map[string]any{}, alarms: map[string]map[string]any{}, taken: map[string]bool{},
		notes: map[string]map[string]any{}}
}

// Count is how many lamps, alarms and notes there are.
func (s *Signals) Count() (lamps, alarms, notes int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.lamps), len(s.alarms), len(s.notes)
}

// Alarms are the ids of the alarms that there are.
func (s *Signals) Alarms() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return sortedKeys(s.alarms)
}

// Notes are the ids of the notes that there are.
func (s *Signals) Notes() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return sortedKeys(s.notes)
}

func (s *Signals) next(prefix string) string {
	s.n++
	return fmt.Sprintf("%s-%d", prefix, s.n)
}

// ServeHTTP answers one request.
func (s *Signals) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	raw, _ := io.ReadAll(r.Body) // what does not come is missing
	var body map[string]any
	_ = json.Unmarshal(raw, &body) // some have none
	say := func(status int, v any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(v) // whoever asked may be gone
	}
	no := func(status int, words string) { say(status, map[string]any{"message": words}) }
	kind, rest, one := strings.Cut(strings.TrimPrefix(r.URL.Path, "/api/"), "/")
	switch what := r.Method + " " + kind; {
	case what == "GET lamps" && !one:
		all := []any{}
		for _, k := range sortedKeys(s.lamps) {
			all = append(all, s.lamps[k])
		}
		say(http.StatusOK, all)
	case what == "PUT lamps" && one:
		blink, err := time.ParseDuration(fmt.Sprint(body["blink"]))
		if err != nil {
			no(http.StatusUnprocessableEntity, "blink is not a duration")
			return
		}
		body["blink"] = blink.String()
		body["no"] = fmt.Sprint(body["no"])
		if body["rest"] == "P1D" {
			body["rest"] = "PT24H"
		}
		body["serial"] = "s/" + rest
		s.lamps[rest] = body
		w.WriteHeader(http.StatusNoContent)
	case kind == "lamps" && s.lamps[rest] == nil, kind == "notes" && one && s.notes[rest] == nil, kind == "alarms" &&
		one && s.alarms[rest] == nil:
		no(http.StatusNotFound, "there is none")
	case what == "GET lamps":
		say(http.StatusOK, s.lamps[rest])
	case what == "DELETE lamps":
		delete(s.lamps, rest)
		w.WriteHeader(http.StatusNoContent)
	case what == "POST alarms":
		if name := fmt.Sprint(body["name"]); s.taken[name] {
			no(http.StatusConflict, "the name "+name+" is taken")
			return
		}
		id := s.next("a")
		s.alarms[id], s.taken[fmt.Sprint(body["name"])] = body, true
		w.Header().Set("Location", "/api/alarms/"+id)
		w.WriteHeader(http.StatusCreated)
	case what == "PUT alarms":
		s.alarms[rest] = body
		w.WriteHeader(http.StatusNoContent)
	case what == "DELETE alarms":
		delete(s.alarms, rest)
		w.WriteHeader(http.StatusNoContent)
	case what == "POST notes":
		body["id"] = s.next("n")
		s.notes[fmt.Sprint(body["id"])] = body
		say(http.StatusCreated, body)
	case what == "GET notes" && one:
		say(http.StatusOK, s.notes[rest])
	case what == "PATCH notes":
		var changes []struct{ Op, Path, Value string }
		if json.Unmarshal(raw, &changes) != nil {
			say(http.StatusBadRequest, map[string]any{"message": "see details",
				"details": []any{map[string]any{"message": "it must be an array", "path": "/text"}}})
			return
		}
		for _, c := range changes {
			at := strings.TrimPrefix(c.Path, "/")
			if s.notes[rest][at] = c.Value; c.Op == "remove" {
				delete(s.notes[rest], at)
			}
		}
		say(http.StatusOK, s.notes[rest])
	case what == "DELETE notes":
		delete(s.notes, rest)
		w.WriteHeader(http.StatusNoContent)
	default:
		no(http.StatusMethodNotAllowed, "it does not do that")
	}
}

func sortedKeys(m map[string]map[string]any) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}
