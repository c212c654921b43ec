// Package tidy lays out declarations in the one common way.
package tidy

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"

	"github.com/bazelbuild/buildtools/build"

	"kasbah/core/disk"
	"kasbah/core/problem"
)

// shortPath is a path as messages call it: relative to the estate where it is
// below it.
func shortPath(root, path string) string {
	if rel, err := filepath.Rel(root, path); err == nil && filepath.IsLocal(rel) {
		return filepath.ToSlash(rel)
	}
	return path
}

// Report is the JSON form of what was laid out, or would be.
type Report struct {
	Format  string   `json:"format"`
	Checked int      `json:"checked"`
	Files   []string `json:"files"` // that were not tidy, from the estate's folder
}

// All lays out the *.star files at some paths, or with write unset only reports which are not
// tidy. Files that cannot be read are problems; the others are laid out all the same.
func All(root string, paths []string, write bool) (*Report, problem.List, error) {
	r := &Report{Format: "kasbah.tidy/1", Files: []string{}}
	var problems problem.List
	for _, path := range paths {
		files, err := files(path)
		if err != nil {
			return nil, nil, err
		}
		for _, f := range files {
			r.Checked++
			name := shortPath(root, f)
			changed, err := file(f, name, write)
			problems.Add(err)
			if changed {
				r.Files = append(r.Files, name)
			}
		}
	}
	return r, problems, nil
}

// files lists the *.star files below a folder, or the file itself.
// Hidden folders and links are left out.
func files(path string) ([]string, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, problem.Usage("there is no file or folder %s", path)
	}
	if err != nil {
		return nil, problem.Usage("%v", err)
	}
	if !info.IsDir() {
		if !strings.HasSuffix(path, ".star") {
			return nil, problem.Usage("%s is not a *.star file", path)
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

// Text lays out declarations. What cannot be read is an error with its
// position.
func Text(name string, body []byte) ([]byte, error) {
	f, err := build.ParseDefault(name, body)
	if err != nil {
		var perr build.ParseError
		if errors.As(err, &perr) {
			return nil, problem.At(problem.Position{File: name, Line: perr.Pos.Line, Column: perr.Pos.LineRune}, "%s",
				perr.Message)
		}
		return nil, problem.At(problem.Position{File: name}, "%v", err)
	}
	return build.FormatWithoutRewriting(f), nil
}

const maxTidy = 16 << 20

// file lays out a file, and reports whether it was not tidy. It is
// replaced as a whole or stays as it is.
func file(path, name string, write bool) (changed bool, err error) {
	body, err := disk.Read(path, maxTidy)
	if err != nil {
		return false, err
	}
	tidy, err := Text(name, body)
	if err != nil || bytes.Equal(tidy, body) {
		return false, err
	}
	if write {
		err = disk.Replace(path, tidy, 0o644)
	}
	return true, err
}
