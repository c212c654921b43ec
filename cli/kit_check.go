package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/kits"
	"kasbah/render"
	"kasbah/session"
)

func kitCheckCommand() *command {
	return &command{
		Name: "kit check", Short: "check a kit by its own tests, in its folder tests", Args: "NAME | FOLDER…",
		Estate: true,
		Long: "Runs the tests in the folder tests of a kit. A kit can be checked on its own, without an " +
			"estate.",
		Examples: [2]string{"kasbah kit check beam", "kasbah kit check ./kits/beam"},
		Run: func(ctx context.Context, a *app, args []string) error {
			p, o, err := a.kitOptions(ctx)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				args = value.Keys(o.Kits)
			}
			var problems problem.List
			var files, passed int
			for _, arg := range args {
				k, err := a.kitAt(p, o, arg)
				if err != nil {
					return err
				}
				_, wrong := declare.DescribeKit(ctx, o, k)
				tests, more := declare.TestKit(ctx, o, k)
				files, passed = files+tests.Files, passed+tests.Passed
				wrong = append(append(wrong, more...), tests.Failed...)
				for _, p := range wrong { // tests know their files by the kit's folder
					if p.Position.File != "" && p.Position.File[0] != 'k' || p.Position.File == "" {
						p.Position.File = "kit:" + k.Name + "/" + p.Position.File
					}
				}
				if tests.Files == 0 {
					a.say("kit %s has no tests: they belong in its folder tests", k.Name)
				}
				problems = append(problems, wrong...)
			}
			problems.Sort()
			if a.json {
				if err := a.document(render.NewCheckDocument(problems)); err != nil {
					return err
				}
			} else {
				a.out().Problems(problems)
				a.out().Printf("%s in %s of %s as expected, %s.\n", render.Count(passed, "expectation"),
					render.Count(files, "file"), render.Count(len(args), "kit"), render.Count(problems.Wrong(),
						"problem"))
			}
			if problems.Wrong() > 0 {
				return exitError(exitFailed)
			}
			return nil
		},
	}
}

// kitAt is a kit by its name in the estate, or the one in a folder.
func (a *app) kitAt(p *session.Session, o declare.Options, arg string) (*declare.Kit, error) {
	dir := arg
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(a.dir, dir)
	}
	_, err := os.Stat(filepath.Join(dir, estate.KitFile))
	if err != nil && strings.ContainsAny(arg, `/\.`) {
		return nil, problem.Usage("%s holds no %s", arg, estate.KitFile)
	}
	if o.Kits[arg] != nil || err != nil {
		return kitNamed(o, arg)
	}
	k, err := kits.Read("", dir)
	if err != nil {
		return nil, err
	}
	p.CloseLater(k.Root.Close)
	return k, nil
}
