package schema

import (
	"time"

	"kasbah/core/problem"
	"kasbah/core/value"
)

// Care is how a resource is to be treated: as its declaration says, and as the ledger and
// proposals record it.
type Care struct {
	Guard   bool         `json:"guard,omitempty"`   // it is not removed
	Leave   []value.Path `json:"leave,omitempty"`   // attributes that others may change
	Swap    string       `json:"swap,omitempty"`    // create-first, drop-first or "" for the type's own order
	AtDrop  string       `json:"at_drop,omitempty"` // LetGo, CopyFirst or "" for removing it, once it is not declared
	Timeout Duration     `json:"timeout,omitempty"` // for one answer of the cloud; 0 for that of the run
	// Excuse are the rules that it may break, each with a reason and an end.
	Excuse map[string]problem.Excuse `json:"excuse,omitempty"`
}

// None reports whether no care is taken.
func (c *Care) None() bool {
	return !c.Guard && len(c.Leave) == 0 && c.Swap == "" && c.AtDrop == "" && c.Timeout == 0 && len(c.Excuse) == 0
}

// What becomes of a thing once it is no longer declared.
const (
	LetGo     = "let-go"     // it is no longer managed, and stays
	CopyFirst = "copy-first" // a copy is kept, and it is removed
)

// Duration is one whose JSON form is a text such as 1h30m0s.
type Duration time.Duration

// String is what time.Duration writes.
func (d Duration) String() string { return time.Duration(d).String() }

// MarshalText writes what String writes.
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads what MarshalText writes.
func (d *Duration) UnmarshalText(text []byte) error {
	parsed, err := time.ParseDuration(string(text))
	*d = Duration(parsed)
	return err
}
