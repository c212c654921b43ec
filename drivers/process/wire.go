package process

import (
	"encoding/json"
	"errors"
	"time"

	"github.com/sourcegraph/jsonrpc2"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// Protocol is the contract's version, which both sides name first.
const Protocol = "kasbah.driver/1"

// The codes of refusals, in the range that JSON-RPC 2.0 leaves to its users.
const (
	codeGone    = -32001 // there is no such thing
	codeChanged = -32002 // the thing no longer carries the tag
	codeRefused = -32003 // the cloud refuses
	codePassing = -32004 // it may pass by itself
)

// What goes over the wire. docs/formats/driver.md describes it for those who
// write the other side.
type (
	helloParams struct {
		Protocols []string        `json:"protocols"`
		Who       string          `json:"who"`
		Settings  json.RawMessage `json:"settings"`
	}
	helloResult struct {
		Protocol string   `json:"protocol"`
		Name     string   `json:"name"`
		Parallel int      `json:"parallel,omitempty"` // calls at a time; 0 for any number
		Offers   []string `json:"offers,omitempty"`   // of vet, find, copy, locate, changes, rehearse
	}
	rehearseParams struct {
		Calls []rehearseCall `json:"calls"`
	}
	rehearseCall struct {
		Do     string          `json:"do"`
		Type   string          `json:"type"`
		ID     string          `json:"id,omitempty"`
		Inputs json.RawMessage `json:"inputs,omitempty"`
		From   json.RawMessage `json:"from,omitempty"`
		To     json.RawMessage `json:"to,omitempty"`
	}
	rehearseResult struct {
		Results []struct {
			Tried    bool          `json:"tried"`
			Problems []wireProblem `json:"problems"`
		} `json:"results"`
	}
	catalogResult struct {
		Version string          `json:"version"`
		Types   json.RawMessage `json:"types"`
	}
	thingParams struct {
		Type   string          `json:"type"`
		ID     string          `json:"id,omitempty"`
		Inputs json.RawMessage `json:"inputs,omitempty"`
		From   json.RawMessage `json:"from,omitempty"`
		To     json.RawMessage `json:"to,omitempty"`
		All    json.RawMessage `json:"all,omitempty"`
		Match  json.RawMessage `json:"match,omitempty"`
		After  string          `json:"after,omitempty"`
		Since  *time.Time      `json:"since,omitempty"`
		Tag    string          `json:"tag,omitempty"`
		Key    string          `json:"key,omitempty"`
	}
	thing struct {
		ID         string          `json:"id"`
		Tag        string          `json:"tag,omitempty"`
		Attributes json.RawMessage `json:"attributes"`
	}
	thingsResult struct {
		Things []thing `json:"things"`
		Next   string  `json:"next,omitempty"`
	}
	problemsResult struct {
		Problems []wireProblem `json:"problems"`
	}
	wireProblem struct {
		Path    string `json:"path"`
		Message string `json:"message"`
	}
	eventsResult struct {
		Events []wireEvent `json:"events"`
		Next   string      `json:"next,omitempty"`
	}
	wireEvent struct {
		At    time.Time `json:"at"`
		Who   string    `json:"who"`
		What  string    `json:"what"`
		Type  string    `json:"type"`
		ID    string    `json:"id"`
		Paths []string  `json:"paths,omitempty"`
	}
	cancelParams struct {
		ID uint64 `json:"id"`
	}
	// refusal is the data of an error.
	refusal struct {
		Problems []wireProblem `json:"problems,omitempty"`
		After    float64       `json:"after,omitempty"` // seconds
		SlowDown bool          `json:"slow_down,omitempty"`
		Unclear  bool          `json:"unclear,omitempty"` // the call may have had its effect
		Made     string        `json:"made,omitempty"`    // id of what it made, where that is unclear
	}
)

// object is a map as it goes over the wire.
func object(m value.Map) json.RawMessage {
	if m == nil {
		return json.RawMessage("{}")
	}
	return value.JSON(map[string]any(m))
}

// attributes reads an object of attributes; what is left out is empty.
func attributes(raw json.RawMessage) (value.Map, error) {
	if len(raw) == 0 {
		return value.Map{}, nil
	}
	v, err := value.Parse(raw)
	if err != nil {
		return nil, err
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, errors.New("its attributes are no object")
	}
	for k, v := range m {
		if v == nil {
			delete(m, k)
		}
	}
	return m, nil
}

// fromWire turns an error of the other side into the driver's.
func fromWire(e *jsonrpc2.Error) error {
	var r refusal
	if e.Data != nil {
		if err := json.Unmarshal(*e.Data, &r); err != nil {
			return &driver.Error{Message: e.Message + " (and its data cannot be read)"}
		}
	}
	switch e.Code {
	case codeGone:
		return driver.ErrGone
	case codeChanged:
		return driver.ErrTag
	}
	out := &driver.Error{Message: e.Message, Passing: e.Code == codePassing, Made: r.Made}
	switch e.Code {
	case codeRefused, codePassing:
		out.NotDone = !r.Unclear
	case jsonrpc2.CodeMethodNotFound, jsonrpc2.CodeInvalidParams, jsonrpc2.CodeInvalidRequest:
		out.NotDone = true // it did not begin
	}
	for _, p := range r.Problems {
		out.Problems = append(out.Problems, driver.Problem(p))
	}
	if out.Passing {
		out.SlowDown = r.SlowDown
		out.After = time.Duration(min(max(r.After, 0), 3600) * float64(time.Second))
	}
	return out
}

// toWire is the way back.
func toWire(err error) *jsonrpc2.Error {
	out := &jsonrpc2.Error{Code: jsonrpc2.CodeInternalError, Message: err.Error()}
	var e *driver.Error
	switch {
	case errors.Is(err, driver.ErrGone):
		out.Code = codeGone
	case errors.Is(err, driver.ErrTag):
		out.Code = codeChanged
	case errors.As(err, &e):
		r := refusal{After: e.After.Seconds(), SlowDown: e.SlowDown, Unclear: !e.NotDone, Made: e.Made}
		for _, p := range e.Problems {
			r.Problems = append(r.Problems, wireProblem(p))
		}
		if out.Code = codeRefused; e.Passing {
			out.Code = codePassing
		}
		out.SetError(r)
	}
	return out
}
