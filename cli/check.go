package cli

import (
	"context"
	"flag"
	"time"

	"kasbah/core/problem"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/render"
)

func checkCommand() *command {
	form := "text"
	return &command{
		Name: "check", Several: true, Short: "find every mistake that can be known offline", Args: "[WARD…]", Estate: true,
		Long: "Evaluates the declarations and the house rules, and reports every mistake with its file, " +
			"line and column. It reads no cloud. It ends with 1 when something is wrong, and with 5 when " +
			"only house rules are broken.",
		Examples: [2]string{"kasbah check", "kasbah check shore -env live -json"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var(flags.Choice(&form, "text", "json", "sarif"), "form", "the `form`: text, json or sarif")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			form := a.formOr(form)
			began := time.Now()
			p, err := a.open(ctx, args)
			if err != nil {
				return a.checked(err, form)
			}
			e, err := p.Evaluate(ctx, p.Others())
			if err != nil {
				return err
			}
			if err := p.StepsDeclared(ctx, e); err != nil {
				return err
			}
			d, problems := e.Declared, e.Problems
			if problems.Wrong() == 0 {
				problems = append(problems, p.SecretProblems(ctx, d, problem.Warning)...)
				problems.Sort()
			}
			if err := a.report(problems, form); err != nil {
				return err
			}
			if n := problems.Wrong(); n > 0 {
				a.say("%s found.", render.Count(n, "problem"))
				return exit.Error(exit.OfProblems(problems))
			}
			if form == "text" {
				a.out().Printf("%s: %s in %s, %s, no problem found.\n", p.Estate.Name, render.Count(len(d.Resources),
					"resource"), render.Count(len(d.Wards), "ward"), render.Count(e.Graph.Edges(), "need"))
				a.out().StepsRan(e.Steps)
				if a.verbose {
					a.say("checked in %s", time.Since(began).Round(time.Millisecond))
				}
			}
			return nil
		},
	}
}

// report writes problems in one of check's forms.
func (a *app) report(list problem.List, form string) error {
	switch form {
	case "json":
		return a.document(render.NewCheckDocument(list))
	case "sarif":
		return a.sarif(list)
	}
	a.out().Problems(list)
	return nil
}

// checked puts the problems of kasbah.toml into check's own form.
func (a *app) checked(err error, form string) error {
	var list problem.List
	if _, isUsage := err.(*problem.UsageError); isUsage || form == "text" {
		return err
	}
	list.Add(err)
	if err := a.report(list, form); err != nil {
		return err
	}
	return exit.Error(exit.Failed)
}
