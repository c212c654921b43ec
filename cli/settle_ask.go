package cli

import (
	"context"
	"os"
	"strconv"
	"strings"

	"kasbah/core/settle"
	"kasbah/session"
)

// settleWords are the answers to the question what becomes of a difference.
var settleWords = map[string]settle.Resolution{"p": settle.PutBack, "t": settle.TakeOver, "l": settle.Leave,
	"g": settle.LetGo, "a": settle.Accept, "s": ""}

// askSettle asks a person what becomes of each difference; equal ones are asked for together.
func (a *app) askSettle(ctx context.Context, s *session.Session, list []settle.Difference) (*session.Chosen, error) {
	out := &session.Chosen{By: map[settle.Resolution][]settle.Difference{}}
	for _, g := range settle.Alike(list) {
		a.out().Difference(g)
		file, number, _ := strings.Cut(g[0].Position(), ":")
		if line, err := strconv.Atoi(number); err == nil {
			if body, err := os.ReadFile(s.File(file)); err == nil {
				a.out().Code(file, string(body), line)
			}
		}
		if err := a.flush(); err != nil {
			return nil, err
		}
		by, err := a.askResolution(ctx)
		if err != nil {
			return nil, err
		}
		if by == settle.Accept && out.Why == "" {
			if out.Until, out.Why, err = a.askAcceptance(ctx); err != nil {
				return nil, err
			}
		}
		out.By[by] = append(out.By[by], g...)
	}
	return out, nil
}

func (a *app) askResolution(ctx context.Context) (settle.Resolution, error) {
	for {
		answer, err := a.person.Ask(ctx, "Put back (p), take over (t), leave to others (l), let go (g), accept (a) or skip (s)?")
		if err != nil {
			return "", err
		}
		if by, known := settleWords[strings.ToLower(answer)]; known {
			return by, nil
		}
		a.say("    type one of p, t, l, g, a and s")
	}
}

// askAcceptance asks until when differences are accepted, and why.
func (a *app) askAcceptance(ctx context.Context) (until, why string, err error) {
	for {
		if until, err = a.person.Ask(ctx, "Until when, such as 2026-12-31?"); err != nil {
			return "", "", err
		}
		if why, err = a.person.Ask(ctx, "Why?"); err != nil {
			return "", "", err
		}
		if err = checkAcceptance(until, why); err == nil && until != "" {
			return until, why, nil
		}
		a.say("    %v", err)
	}
}
