package cli

import (
	"context"
	"flag"
	"time"

	"kasbah/core/problem"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/render"
	"kasbah/session"
)

func rulesCommand() *command {
	var test bool
	form := "text"
	var at flags.List
	return &command{
		Name: "rules", Short: "judge by the house rules in rules/*.star", Args: "[WARD…]", Estate: true,
		Long: "Judges what is declared; with -at also what would be proposed and what is live. -test runs " +
			"the rules' own tests.",
		Examples: [2]string{"kasbah rules -env live", "kasbah rules -at proposed -form sarif"},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&test, "test", false, "run the rules' own tests, rules/*_test.star")
			fs.Var(flags.Choice(&form, "text", "json", "sarif"), "form", "the `form`: text, json or sarif")
			fs.Var(&at, "at", "judge at this `stage`: declared (always), proposed, live; repeatable")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			form := a.formOr(form)
			for _, s := range at {
				if s != "declared" && s != "proposed" && s != "live" {
					return problem.Usage("-at is %q, and must be declared, proposed or live", s)
				}
			}
			if test {
				p, err := a.openAny(ctx, args)
				if err != nil {
					return err
				}
				return a.testRules(ctx, p)
			}
			p, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			return a.judge(ctx, p, at, form)
		},
	}
}

func (a *app) judge(ctx context.Context, s *session.Session, at []string, form string) error {
	d, problems, err := s.JudgeAt(ctx, at)
	if err != nil {
		return err
	}
	switch form {
	case "json":
		err = a.document(d)
	case "sarif":
		err = a.sarif(problems)
	default:
		a.out().RulesAndFindings(d, problems)
	}
	if err == nil && problems.Wrong() > 0 {
		return exit.Error(exit.OfProblems(problems))
	}
	return err
}

// testRules runs the rules' own tests.
func (a *app) testRules(ctx context.Context, s *session.Session) error {
	began := time.Now()
	set, err := s.Rules(ctx)
	if err != nil {
		return err
	}
	tests, problems := set.Test(ctx)
	problems = append(problems, tests.Failed...)
	problems.Sort()
	if err := show(a, render.NewCheckDocument(problems), func(o *render.Out, _ render.CheckDocument) {
		o.Problems(problems)
		o.Printf("%s of %s as expected, %d not.\n", render.Count(tests.Passed, "answer"),
			render.Count(len(set.Rules), "rule"), len(tests.Failed))
		if a.verbose {
			a.say("tested in %s", time.Since(began).Round(time.Millisecond))
		}
	}); err != nil {
		return err
	}
	if problems.Wrong() > 0 {
		return exit.Error(exit.Failed)
	}
	return nil
}
