package cli

import (
	"context"
	"flag"

	"kasbah/core/problem"
	"kasbah/core/rules"
	"kasbah/core/steps"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/render"
)

func stepsCommand() *command {
	var try, at string
	form := "text"
	return &command{
		Name: "steps", Short: "list the programs that have a say in a change, or try one", Args: "[WARD…]", Estate: true,
		Long: "Lists the steps of kasbah.toml and says which run in the environment. -test runs one on the present " +
			"state, as the stage gives it, and shows what it finds. Nothing is recorded.",
		Examples: [2]string{"kasbah steps -env live", "kasbah steps -test scan -at proposed"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&try, "test", "", "run the step of this `name`")
			fs.StringVar(&at, "at", "", "with -test: at this `stage`; the step's first one when left out")
			fs.Var(flags.Choice(&form, "text", "json", "sarif"), "form", "the `form`: text, json or sarif")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			s, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			d := steps.NewDocument(s.Env, s.Estate.Steps, nil, nil)
			switch {
			case try != "":
				if d, err = s.TryStep(ctx, try, at); err != nil {
					return err
				}
			case at != "":
				return problem.Usage("-at goes with -test")
			}
			found := rules.Problems(d.Findings)
			if a.formOr(form) == "sarif" {
				err = a.sarif(found)
			} else {
				a.json = a.formOr(form) == "json"
				err = show(a, d, (*render.Out).Steps)
			}
			if err == nil && found.Wrong() > 0 {
				return exit.Error(exit.Refused)
			}
			return err
		},
	}
}
