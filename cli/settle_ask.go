package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"kasbah/core/settle"
	"kasbah/render"
	"kasbah/session"
)

// codeAround is how many lines before and behind a declaration are shown.
const codeAround = 2

// askSettle asks a person what becomes of each difference; equal ones are asked for together.
func (a *app) askSettle(ctx context.Context, s *session.Session, list []settle.Difference, f *settleFlags) (
	map[settle.Resolution][]settle.Difference, error) {
	out := map[settle.Resolution][]settle.Difference{}
	words := map[string]settle.Resolution{"p": settle.PutBack, "t": settle.TakeOver, "l": settle.Leave, "g": settle.LetGo,
		"a": settle.Accept, "s": ""}
	for _, g := range settle.Alike(list) {
		a.out().Difference(g)
		if place := g[0].Position(); place != "" {
			a.out().Printf("%s", codeAt(s.Estate.Dir, place))
		}
		if err := a.flush(); err != nil {
			return nil, err
		}
		for {
			question := "Put back (p), take over (t), leave to others (l), let go (g), accept (a) or skip (s)?"
			answer, err := a.ask(ctx, question)
			if err != nil {
				return nil, err
			}
			r, known := words[strings.ToLower(answer)]
			if !known {
				a.say("    type one of p, t, l, g, a and s")
				continue
			}
			if r == settle.Accept {
				if err := a.askAccept(ctx, f); err != nil {
					return nil, err
				}
			}
			out[r] = append(out[r], g...)
			break
		}
	}
	delete(out, "")
	return out, nil
}

// askAccept asks until when differences are accepted, and why, once.
func (a *app) askAccept(ctx context.Context, f *settleFlags) error {
	for f.accept == "" || f.reason == "" {
		var err error
		if f.accept == "" {
			if f.accept, err = a.ask(ctx, "Until when, such as 2026-12-31?"); err != nil {
				return err
			}
		}
		if f.reason == "" {
			if f.reason, err = a.ask(ctx, "Why?"); err != nil {
				return err
			}
		}
		if err := f.acceptance(); err != nil {
			a.say("    %v", err)
			f.accept = ""
		}
	}
	return nil
}

// codeAt are the lines around a place, FILE:LINE, with their numbers; "" where the file cannot be
// read.
func codeAt(dir, place string) string {
	file, number, _ := strings.Cut(place, ":")
	at, err := strconv.Atoi(number)
	if err != nil {
		return ""
	}
	body, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(file)))
	if err != nil {
		return ""
	}
	lines := strings.Split(strings.TrimSuffix(string(body), "\n"), "\n")
	var b strings.Builder
	fmt.Fprintf(&b, "    %s\n", file)
	for i := max(1, at-codeAround); i <= min(len(lines), at+codeAround); i++ {
		mark := " "
		if i == at {
			mark = ">"
		}
		fmt.Fprintf(&b, "  %s %4d  %s\n", mark, i, render.Clean(lines[i-1]))
	}
	return b.String()
}
