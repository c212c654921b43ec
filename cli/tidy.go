package cli

import (
	"context"
	"flag"

	"kasbah/core/estate"
	"kasbah/core/tidy"
	"kasbah/exit"
	"kasbah/render"
)

func tidyCommand() *command {
	var check bool
	return &command{
		Name: "tidy", Short: "format declarations", Args: "[FILE | FOLDER…]", Estate: true,
		Long:     "Rewrites *.star files in one common layout. The meaning stays the same.",
		Examples: [2]string{"kasbah tidy", "kasbah tidy -check"},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&check, "check", false, "write nothing; end with 3 when something is not tidy")
		},
		Run: func(_ context.Context, a *app, args []string) error {
			root, err := estate.Find(a.dir)
			if err != nil {
				return err
			}
			if len(args) == 0 {
				args = []string{root}
			}
			for i := range args {
				args[i] = a.path(args[i])
			}
			d, problems, err := tidy.All(root, args, !check)
			if err != nil {
				return err
			}
			if err := show(a, d, func(o *render.Out, d *tidy.Report) {
				for _, f := range d.Files {
					o.Printf("%s\n", f)
				}
				a.say("%d of %d files %s tidy.", len(d.Files), d.Checked, map[bool]string{true: "are not",
					false: "were made"}[check])
			}); err != nil {
				return err
			}
			switch {
			case problems.Wrong() > 0:
				return problems
			case check && len(d.Files) > 0:
				return exit.ErrDifferent
			}
			return nil
		},
	}
}
