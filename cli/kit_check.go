package cli

import (
	"context"

	"kasbah/exit"
	"kasbah/render"
)

func kitCheckCommand() *command {
	return &command{
		Name: "kit check", Short: "check a kit by its own tests, in its folder tests", Args: "NAME | FOLDER…",
		Estate: true,
		Long: "Runs the tests in the folder tests of a kit. A kit can be checked on its own, without an " +
			"estate.",
		Examples: [2]string{"kasbah kit check beam", "kasbah kit check ./kits/beam"},
		Run: func(ctx context.Context, a *app, args []string) error {
			k, err := a.openKits(ctx)
			if err != nil {
				return err
			}
			tests, n, problems, err := k.Check(ctx, a.dir, args)
			if err != nil {
				return err
			}
			if err := show(a, render.NewCheckDocument(problems), func(o *render.Out, _ render.CheckDocument) {
				o.Problems(problems)
				o.Printf("%s in %s of %s as expected, %s.\n", render.Count(tests.Passed, "expectation"),
					render.Count(tests.Files, "file"), render.Count(n, "kit"), render.Count(problems.Wrong(), "problem"))
			}); err != nil {
				return err
			}
			if problems.Wrong() > 0 {
				return exit.Error(exit.Failed)
			}
			return nil
		},
	}
}
