package demo

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Choices are what a new estate is made of.
type Choices struct {
	Estate string
	Ward   string
	Envs   []string
	Parts  []string // of PartNames
}

// PartNames name what can be added to a new estate.
var PartNames = []string{"kit", "rules"}

// Files are a new estate's files by path.
func Files(c Choices) (map[string][]byte, error) {
	base, err := allFiles(Start())
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for name, body := range base {
		if rest, ok := strings.CutPrefix(name, "shore/"); ok {
			name = c.Ward + "/" + rest
		}
		out[name] = body
	}
	parts := c.Parts
	if slices.Contains(parts, "kit") {
		coast, err := allFiles(LanternCoast())
		if err != nil {
			return nil, err
		}
		for name, body := range coast {
			if strings.HasPrefix(name, "kits/station/") || strings.HasPrefix(name, "common/") {
				out[name] = body
			}
		}
		out[c.Ward+"/shore.star"] = coast["shore/shore.star"]
	}
	if slices.Contains(parts, "rules") {
		rules, err := allFiles(Parts())
		if err != nil {
			return nil, err
		}
		for name, body := range rules {
			out[name] = body
		}
	}
	if c.Ward != "shore" {
		out[c.Ward+"/"+c.Ward+".star"] = out[c.Ward+"/shore.star"]
		delete(out, c.Ward+"/shore.star")
	}
	out[estate.File] = []byte(c.config(string(base[estate.File]), slices.Contains(parts, "kit")))
	return out, nil
}

// config is the kasbah.toml: that of the smallest estate, with what was chosen.
func (c Choices) config(body string, kit bool) string {
	body = strings.Replace(body, `estate = "lantern-coast"`, fmt.Sprintf("estate = %q", c.Estate), 1)
	body = strings.Replace(body, `wards  = ["shore"]`, fmt.Sprintf("wards  = [%q]", c.Ward), 1)
	head, inputs, _ := strings.Cut(body, "[env.trial.inputs]\n")
	if kit {
		head += "[kits]\nstation = \"kits/station\"   # a folder of the estate, or { git = \"URL\", tag = \"v1.0.0\" " +
			"}\n\n"
	}
	var envs []string
	for _, env := range c.Envs {
		envs = append(envs, fmt.Sprintf("[env.%s.inputs]\n%s", env, inputs))
	}
	return head + strings.Join(envs, "\n")
}

// allFiles reads every file of a file system, by path.
func allFiles(from fs.FS) (map[string][]byte, error) {
	out := map[string][]byte{}
	err := fs.WalkDir(from, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		out[path.Clean(name)], err = fs.ReadFile(from, name)
		return err
	})
	return out, err
}

// WriteEstate writes an embedded estate into a folder and overwrites nothing.
func WriteEstate(dir string, from fs.FS) ([]string, error) {
	all, err := allFiles(from)
	if err != nil {
		return nil, err
	}
	return Write(dir, all)
}

// Write writes files into a folder and overwrites nothing.
func Write(dir string, all map[string][]byte) ([]string, error) {
	files := value.Keys(all)
	if err := NothingThere(dir, all); err != nil {
		return nil, err
	}
	for _, f := range files {
		path := filepath.Join(dir, f)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, all[f], 0o644); err != nil {
			return nil, err
		}
	}
	return files, nil
}

// NothingThere is an error when one of the files is in a folder already.
func NothingThere(dir string, all map[string][]byte) error {
	for _, f := range value.Keys(all) {
		if _, err := os.Lstat(filepath.Join(dir, f)); err == nil {
			return problem.Usage("%s is there already; nothing is written over", filepath.Join(dir, f))
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
