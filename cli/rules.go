package cli

import (
	"context"
	"flag"
	"time"

	"kasbah/core/problem"
	"kasbah/core/rules"
	"kasbah/render"
	"kasbah/session"
)

func rulesCommand() *command {
	var test bool
	var form string
	var at listFlag
	return &command{
		Name: "rules", Short: "judge by the house rules in rules/*.star", Args: "[WARD…]", Estate: true,
		Long: "Judges what is declared; with -at also what would be proposed and what is live. -test runs " +
			"the rules' own tests.",
		Examples: [2]string{"kasbah rules -env live", "kasbah rules -at proposed -form sarif"},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&test, "test", false, "run the rules' own tests, rules/*_test.star")
			fs.StringVar(&form, "form", "text", "the `form`: text, json or sarif")
			fs.Var(&at, "at", "judge at this `stage`: declared (always), proposed, live; repeatable")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if err := a.chooseForm(&form, "text", "json", "sarif"); err != nil {
				return err
			}
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

func (a *app) judge(ctx context.Context, p *session.Session, at []string, form string) error {
	e, err := p.Evaluate(ctx, p.Others())
	if err != nil {
		return err
	}
	problems := e.Problems
	if e.Judged == nil { // the declarations or the rules themselves are wrong
		return problems
	}
	var stages []rules.Stage
	for _, s := range at {
		stages = append(stages, rules.Stage(s))
	}
	reports, err := p.Judge(ctx, e, stages)
	if err != nil {
		return err
	}
	for _, report := range reports[1:] {
		problems = append(problems, report.Problems()...)
	}
	set, err := p.Rules(ctx)
	if err != nil {
		return err
	}
	problems.Sort()
	d := render.NewRulesDocument(p.Env, set.Rules, reports...)
	switch form {
	case "json":
		err = a.document(d)
	case "sarif":
		err = a.sarif(problems)
	default:
		if len(d.Rules) == 0 {
			a.out().Printf("The estate has no rules: they belong in %s/*.star.\n", rules.Folder)
			return nil
		}
		a.out().Problems(once(problems))
		if len(problems) > 0 {
			a.out().Printf("\n")
		}
		a.out().Rules(d)
	}
	if err == nil && problems.Wrong() > 0 {
		return exitError(problemsCode(problems))
	}
	return err
}

// once leaves out how a rule stands to something at one stage when the same
// is told at another.
func once(list problem.List) problem.List {
	var out problem.List
	seen := map[string]bool{}
	for i := len(list) - 1; i >= 0; i-- { // the later stages come last
		p := list[i]
		key := p.Rule + " " + p.Ward + " " + p.Address
		if p.Standing != "" && seen[key] {
			continue
		}
		seen[key] = true
		out = append(problem.List{p}, out...)
	}
	return out
}

// testRules runs the rules' own tests.
func (a *app) testRules(ctx context.Context, p *session.Session) error {
	began := time.Now()
	set, err := p.Rules(ctx)
	if err != nil {
		return err
	}
	tests, problems := set.Test(ctx)
	problems = append(problems, tests.Failed...)
	problems.Sort()
	if a.json {
		if err := a.document(render.NewCheckDocument(problems)); err != nil {
			return err
		}
	} else {
		a.out().Problems(problems)
		a.out().Printf("%s of %s as expected, %d not.\n", render.Count(tests.Passed, "answer"),
			render.Count(len(set.Rules), "rule"), len(tests.Failed))
		if a.verbose {
			a.say("tested in %s", time.Since(began).Round(time.Millisecond))
		}
	}
	if problems.Wrong() > 0 {
		return exitError(exitFailed)
	}
	return nil
}
