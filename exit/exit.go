// Package exit says how the program ends: its exit codes, which error stands for which, and what is written of it.
package exit

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/render"
	"kasbah/terminal"
)

// Exit codes.
const (
	Done        = 0
	Failed      = 1
	Usage       = 2
	Different   = 3
	Locked      = 4
	Refused     = 5
	Interrupted = 130
)

// Error ends the program with a code and nothing more to say.
type Error int

// Error is the code.
func (e Error) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// ErrDifferent ends a command that found what -exit-code reports.
const ErrDifferent = Error(Different)

// Tell writes an error for people and finds the code that it stands for. again is the command line as it is typed
// once more, and env the environment.
func Tell(e *render.Out, err error, env, again string) int {
	code := Done
	var coded Error
	var wrong *problem.UsageError
	var locked *ledger.LockedError
	var refused *enact.Refused
	var list problem.List
	var one *problem.Problem
	switch {
	case err == nil:
	case errors.As(err, &coded):
		code = int(coded)
	case errors.As(err, &wrong):
		e.Printf("%s\n", wrong.Message)
		if wrong.Hint != "" {
			e.Printf("    %s\n", wrong.Hint)
		}
		code = Usage
	case errors.As(err, &locked):
		e.Refused(locked, env, again)
		code = Locked
	case errors.As(err, &refused):
		for _, r := range refused.Reasons {
			e.Printf("refused: %s\n", r)
		}
		code = Refused
	case errors.Is(err, terminal.ErrEnded):
		e.Printf("refused: %v\n", terminal.ErrEnded)
		code = Refused
	case errors.Is(err, context.Canceled):
		e.Printf("interrupted\n")
		code = Interrupted
	case errors.As(err, &list):
		list.Sort()
		e.Problems(list)
		code = OfProblems(list)
	case errors.As(err, &one):
		e.Problem(one)
		code = Failed
	default:
		// what ended a run may end its end as well
		for _, line := range slices.Compact(strings.Split(err.Error(), "\n")) {
			e.Printf("%s\n", line)
		}
		code = Failed
	}
	return code
}

// Kinds say in -json how a command ended.
var Kinds = map[int]string{Usage: "usage", Locked: "locked", Refused: "refused",
	Interrupted: "interrupted"}

// OfProblems is the code for problems: refused, when all that is wrong
// are broken rules.
func OfProblems(list problem.List) int {
	code := Refused
	for _, p := range list {
		if p.Level == problem.Wrong && p.Rule == "" {
			code = Failed
		}
	}
	return code
}

// Worse is the worse one of two codes: what failed is worse than what was refused, and that than a difference.
func Worse(a, b int) int {
	order := []int{Done, Different, Locked, Refused, Usage, Failed, Interrupted}
	if slices.Index(order, b) > slices.Index(order, a) {
		return b
	}
	return a
}
