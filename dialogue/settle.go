// Package dialogue holds the conversations with a person at a terminal that take more than one question.
package dialogue

import (
	"context"
	"os"
	"strconv"
	"strings"

	"kasbah/core/settle"
	"kasbah/render"
	"kasbah/session"
	"kasbah/terminal"
)

// Terminal is a person, and where they read.
type Terminal struct {
	Person *terminal.Person
	Out    *render.Out                      // of what is asked about
	Flush  func() error                     // writes what Out holds back
	Say    func(format string, args ...any) // says what is wrong with an answer
}

// settleWords are the answers to the question what is to be done about a difference.
var settleWords = map[string]settle.Resolution{"p": settle.PutBack, "t": settle.TakeOver, "l": settle.Leave,
	"g": settle.LetGo, "a": settle.Accept, "s": ""}

// Settle asks a person what is to be done about each difference; equal ones are asked for together. check says what
// is wrong with the end of an acceptance, or with its reason.
func (t Terminal) Settle(ctx context.Context, s *session.Session, list []settle.Difference,
	check func(until, why string) error) (*session.Chosen, error) {
	out := &session.Chosen{By: map[settle.Resolution][]settle.Difference{}}
	for _, g := range settle.Alike(list) {
		t.Out.Difference(g)
		file, number, _ := strings.Cut(g[0].Position(), ":")
		if line, err := strconv.Atoi(number); err == nil {
			if body, err := os.ReadFile(s.File(file)); err == nil {
				t.Out.Code(file, string(body), line)
			}
		}
		if err := t.Flush(); err != nil {
			return nil, err
		}
		by, err := t.resolution(ctx)
		if err != nil {
			return nil, err
		}
		if by == settle.Accept && out.Why == "" {
			if out.Until, out.Why, err = t.acceptance(ctx, check); err != nil {
				return nil, err
			}
		}
		out.By[by] = append(out.By[by], g...)
	}
	return out, nil
}

func (t Terminal) resolution(ctx context.Context) (settle.Resolution, error) {
	for {
		answer, err := t.Person.Ask(ctx, "Put back (p), take over (t), leave to others (l), let go (g), accept (a) or skip (s)?")
		if err != nil {
			return "", err
		}
		if by, known := settleWords[strings.ToLower(answer)]; known {
			return by, nil
		}
		t.Say("    type one of p, t, l, g, a and s")
	}
}

// acceptance asks until when differences are accepted, and why.
func (t Terminal) acceptance(ctx context.Context, check func(until, why string) error) (until, why string, err error) {
	for {
		if until, err = t.Person.Ask(ctx, "Until when, such as 2026-12-31?"); err != nil {
			return "", "", err
		}
		if why, err = t.Person.Ask(ctx, "Why?"); err != nil {
			return "", "", err
		}
		if err = check(until, why); err == nil && until != "" {
			return until, why, nil
		}
		t.Say("    %v", err)
	}
}
