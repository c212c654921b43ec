package cli

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"github.com/bazelbuild/buildtools/build"

	"kasbah/core/disk"
	"kasbah/core/estate"
	"kasbah/core/problem"
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
		name: "tidy", line: "lay out declarations in the one common way", args: "[FILE | FOLDER…]", common: true,
		examples: [2]string{"kasbah tidy", "kasbah tidy -check"},
		flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&check, "check", false, "write nothing; end with 3 when something is not tidy")
		},
		run: func(_ context.Context, a *app, args []string) error {
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
				files, err := starFilesBelow(arg)
				if err != nil {
					return err
				}
				for _, f := range files {
					d.Checked++
					name := shortPath(root, f)
					changed, err := tidyFile(f, name, !check)
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
				a.say("%d of %d files %s tidy.", len(d.Files), d.Checked, map[bool]string{true: "are not", false: "were made"}[check])
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

// shortPath is a path as messages call it: relative to the estate where it is
// below it.
func shortPath(root, path string) string {
	if rel, err := filepath.Rel(root, path); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return path
}

// starFilesBelow lists the *.star files below a folder, or the file itself.
// Hidden folders and links are left out.
func starFilesBelow(path string) ([]string, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, problem.Usage("there is no file or folder %s", path)
	}
	if err != nil {
		return nil, problem.Usage("%v", err)
	}
	if !info.IsDir() {
		if !strings.HasSuffix(path, ".star") {
			return nil, problem.Usage("%s is no *.star file", path)
		}
		return []string{path}, nil
	}
	var out []string
	err = filepath.WalkDir(path, func(p string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && p != path && strings.HasPrefix(d.Name(), "."):
			return fs.SkipDir
		case d.Type().IsRegular() && strings.HasSuffix(p, ".star"):
			out = append(out, p)
		}
		return nil
	})
	sort.Strings(out)
	return out, err
}

// tidyText lays out declarations. What cannot be read is an error with its
// position.
func tidyText(name string, body []byte) ([]byte, error) {
	f, err := build.ParseDefault(name, body)
	if err != nil {
		var perr build.ParseError
		if errors.As(err, &perr) {
			return nil, problem.At(problem.Position{File: name, Line: perr.Pos.Line, Column: perr.Pos.LineRune}, "%s", perr.Message)
		}
		return nil, problem.At(problem.Position{File: name}, "%v", err)
	}
	return build.FormatWithoutRewriting(f), nil
}

const maxTidy = 16 << 20

// tidyFile lays out a file, and reports whether it was not tidy. It is
// replaced as a whole or stays as it is.
func tidyFile(path, name string, write bool) (changed bool, err error) {
	info, err := os.Stat(path)
	if err != nil {
		return false, err
	}
	if info.Size() > maxTidy {
		return false, problem.At(problem.Position{File: name}, "larger than %d bytes", maxTidy)
	}
	body, err := os.ReadFile(path)
	if err != nil {
		return false, err
	}
	tidy, err := tidyText(name, body)
	if err != nil || bytes.Equal(tidy, body) {
		return false, err
	}
	if write {
		err = disk.Replace(path, tidy, info.Mode().Perm())
	}
	return true, err
}
