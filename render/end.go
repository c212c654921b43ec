package render

import (
	"cmp"
	"context"
	"errors"
	"strings"

	"kasbah/core/ledger"
	"kasbah/core/problem"
)

// End is the JSON form of the end of a command that has no document of its own.
type End struct {
	Format string `json:"format"`
	Exit   int    `json:"exit"`
	Text   string `json:"text,omitempty"` // what people are told
}

// NewEnd is the document of an exit code and what people are told.
func NewEnd(exit int, text string) End {
	return End{"kasbah.done/1", exit, strings.TrimSpace(text)}
}

// Failure is the JSON form of an error that ended a command.
type Failure struct {
	Format   string         `json:"format"`
	Exit     int            `json:"exit"`
	Kind     string         `json:"kind"`
	Message  string         `json:"message"`
	Hint     string         `json:"hint,omitempty"`
	Problems problem.List   `json:"problems,omitempty"`
	Holder   *ledger.Holder `json:"holder,omitempty"` // of the lock that is in the way
}

// NewFailure is the document of an error, with its exit code and kind; "" for one that has none
// of its own.
func NewFailure(err error, exit int, kind string) Failure {
	d := Failure{Format: "kasbah.error/1", Exit: exit, Kind: cmp.Or(kind, "failed"), Message: err.Error()}
	var wrong *problem.UsageError
	var locked *ledger.LockedError
	var list problem.List
	var one *problem.Problem
	switch {
	case errors.As(err, &wrong):
		d.Message, d.Hint = wrong.Message, wrong.Hint
	case errors.As(err, &locked):
		holder := ledger.HolderOf(locked.Ward, locked.Holder)
		d.Holder = &holder
	case errors.As(err, &list):
		d.Problems = list
	case errors.As(err, &one):
		d.Problems = problem.List{one}
	case errors.Is(err, context.Canceled):
		d.Message = "interrupted"
	}
	return d
}
