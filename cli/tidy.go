package cli

import (
	"context"
	"flag"
	"path/filepath"

	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/tidy"
)

// tidyDocument is the JSON form of what tidy did, or would do.
type tidyDocument struct {
	Format  string   `json:"format"`
	Checked int      `json:"checked"`
	Files   []string `json:"files"` // that were not tidy
}

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
			d := tidyDocument{Format: "kasbah.tidy/1", Files: []string{}}
			var problems problem.List
			for _, arg := range args {
				if !filepath.IsAbs(arg) {
					arg = filepath.Join(a.dir, arg)
				}
				files, err := tidy.Files(arg)
				if err != nil {
					return err
				}
				for _, f := range files {
					d.Checked++
					name := tidy.ShortPath(root, f)
					changed, err := tidy.File(f, name, !check)
					problems.Add(err)
					if changed {
						d.Files = append(d.Files, name)
					}
				}
			}
			if a.json {
				if err := a.document(d); err != nil {
					return err
				}
			} else {
				for _, f := range d.Files {
					a.out().Printf("%s\n", f)
				}
				a.say("%d of %d files %s tidy.", len(d.Files), d.Checked, map[bool]string{true: "are not",
					false: "were made"}[check])
			}
			switch {
			case problems.Wrong() > 0:
				return problems
			case check && len(d.Files) > 0:
				return errDifferent
			}
			return nil
		},
	}
}
