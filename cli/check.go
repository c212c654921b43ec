package cli

import (
	"context"
	"time"

	"kasbah/core/problem"
	"kasbah/render"
)

func checkCommand() *command {
	return &command{
		name: "check", line: "find every mistake that can be known offline", args: "[WARD…]", common: true,
		examples: [2]string{"kasbah check", "kasbah check shore -env live -json"},
		run: func(ctx context.Context, a *app, args []string) error {
			began := time.Now()
			p, err := a.open(ctx, args)
			if err != nil {
				return a.checked(err)
			}
			d, g, problems, err := a.evaluate(ctx, p)
			if err != nil {
				return err
			}
			if a.json {
				if err := a.document(render.NewCheckDocument(problems)); err != nil {
					return err
				}
			} else {
				a.out().Problems(problems)
			}
			if n := problems.Wrong(); n > 0 {
				a.say("%s found.", render.Count(n, "problem"))
				return exitError(exitFailed)
			}
			if !a.json {
				a.out().Printf("%s: %s in %s, %s, no problem found.\n", p.estate.Name, render.Count(len(d.Resources), "resource"), render.Count(len(d.Wards), "ward"), render.Count(g.Edges(), "need"))
				if a.verbose {
					a.say("checked in %s", time.Since(began).Round(time.Millisecond))
				}
			}
			return nil
		},
	}
}

// checked puts the problems of kasbah.toml into check's own form.
func (a *app) checked(err error) error {
	var list problem.List
	if _, isUsage := err.(*usageError); isUsage || !a.json {
		return err
	}
	list.Add(err)
	if err := a.document(render.NewCheckDocument(list)); err != nil {
		return err
	}
	return exitError(exitFailed)
}
