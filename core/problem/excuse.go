package problem

import (
	"encoding/json"
	"strings"
)

// Excuse lets a resource break a house rule for a while.
type Excuse struct {
	Reason string `json:"reason"`
	Until  string `json:"until"` // the last day it holds, as 2006-01-02
}

// UnmarshalJSON also reads `reason, until DATE`, as ledgers of earlier versions hold it.
func (x *Excuse) UnmarshalJSON(body []byte) error {
	var text string
	if json.Unmarshal(body, &text) == nil {
		x.Reason = text
		if i := strings.LastIndex(text, ", until "); i >= 0 {
			x.Reason, x.Until = text[:i], text[i+len(", until "):]
		}
		return nil
	}
	type plain Excuse
	return json.Unmarshal(body, (*plain)(x))
}
