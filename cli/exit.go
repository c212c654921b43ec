package cli

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
	exitDone        = 0
	exitFailed      = 1
	exitUsage       = 2
	exitDifferent   = 3
	exitLocked      = 4
	exitRefused     = 5
	exitInterrupted = 130
)

// exitError ends the program with a code and nothing more to say.
type exitError int

func (e exitError) Error() string { return fmt.Sprintf("exit code %d", int(e)) }

// errDifferent ends a command that found what -exit-code reports.
var errDifferent = exitError(exitDifferent)

// finish prints an error and finds the exit code.
func (a *app) finish(err error) int {
	for _, p := range a.opened {
		if cerr := p.Close(); cerr != nil {
			err = errors.Join(err, cerr)
		}
	}
	code := exitDone
	var exit exitError
	var wrong *problem.UsageError
	var locked *ledger.LockedError
	var refused *enact.Refused
	var list problem.List
	var one *problem.Problem
	e := a.errs()
	switch {
	case err == nil:
	case errors.As(err, &exit):
		code = int(exit)
	case errors.As(err, &wrong):
		e.Printf("%s\n", wrong.Message)
		if wrong.Hint != "" {
			e.Printf("    %s\n", wrong.Hint)
		}
		code = exitUsage
	case errors.As(err, &locked):
		e.Refused(locked, a.env, a.again())
		code = exitLocked
	case errors.As(err, &refused):
		for _, r := range refused.Reasons {
			e.Printf("refused: %s\n", r)
		}
		code = exitRefused
	case errors.Is(err, terminal.ErrEnded):
		e.Printf("refused: %v\n", terminal.ErrEnded)
		code = exitRefused
	case errors.Is(err, context.Canceled):
		e.Printf("interrupted\n")
		code = exitInterrupted
	case errors.As(err, &list):
		list.Sort()
		e.Problems(list)
		code = problemsCode(list)
	case errors.As(err, &one):
		e.Problem(one)
		code = exitFailed
	default:
		// what ended a run may end its end as well
		for _, line := range slices.Compact(strings.Split(err.Error(), "\n")) {
			e.Printf("%s\n", line)
		}
		code = exitFailed
	}
	if a.json && !a.wrote {
		if werr := a.document(a.endDocument(err, code)); werr != nil && err == nil {
			err, code = werr, exitFailed
			e.Printf("%v\n", werr)
		}
	}
	if err := a.flush(); err != nil && code == exitDone {
		fmt.Fprintf(a.errors, "the output could not be written: %v\n", err)
		code = exitFailed
	}
	return code
}

// exitKinds say in -json how a command ended.
var exitKinds = map[int]string{exitUsage: "usage", exitLocked: "locked", exitRefused: "refused",
	exitInterrupted: "interrupted"}

// problemsCode is the exit code for problems: refused, when all that is wrong
// are broken rules.
func problemsCode(list problem.List) int {
	code := exitRefused
	for _, p := range list {
		if p.Level == problem.Wrong && p.Rule == "" {
			code = exitFailed
		}
	}
	return code
}

// endDocument is what -json writes for a command that has no document of its own.
func (a *app) endDocument(err error, code int) any {
	if exit := exitError(0); err == nil || errors.As(err, &exit) {
		return render.NewEnd(code, a.unshown.String())
	}
	return render.NewFailure(err, code, exitKinds[code])
}
