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
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Choices are what a new estate is made of. Lists have commas between their names.
type Choices struct {
	Estate  string
	Ward    string // the first one
	Envs    string
	Parts   string // of partNames
	Sealing string // lines for [ledger] in kasbah.toml; "" for a ledger in clear
}

// partNames name what can be added to a new estate.
var partNames = []string{"kit", "rules"}

// EnvNames are the environments.
func (c *Choices) EnvNames() []string { return strings.Split(c.Envs, ",") }

// Question is one of the choices, to be asked for.
type Question struct {
	Text      string
	Otherwise string // the answer when none is given
	Answer    *string

	flag  string
	many  bool     // several may be given, with commas between them
	known []string // what may be listed; nil for names
}

// Questions are those that a person is asked for the choices. The estate has this name unless
// another one is given.
func (c *Choices) Questions(estate string) []Question {
	return []Question{
		{Text: "Name of the estate", Otherwise: estate, Answer: &c.Estate, flag: "-estate"},
		{Text: "Its first ward, a folder of declarations", Otherwise: "shore", Answer: &c.Ward, flag: "-ward"},
		{Text: "Its environments, with commas between them", Otherwise: "trial", Answer: &c.Envs, flag: "-envs",
			many: true},
		{Text: "Add what, with commas: kit (a reusable part), rules (house rules)", Answer: &c.Parts, flag: "-parts",
			many: true, known: partNames},
	}
}

// Complete gives an answer that was left out, and checks the one that was given. Spaces around
// names are taken out.
func (q Question) Complete() error {
	if *q.Answer == "" || *q.Answer == "none" && q.Otherwise == "" {
		*q.Answer = q.Otherwise
	}
	if *q.Answer == "" {
		return nil
	}
	names := []string{*q.Answer}
	if q.many {
		names = strings.Split(*q.Answer, ",")
	}
	for i, name := range names {
		if q.many {
			name = strings.TrimSpace(name)
			names[i] = name
		}
		switch {
		case q.known != nil && !slices.Contains(q.known, name):
			return &problem.UsageError{Message: fmt.Sprintf("%s: there is no part %q, only %s", q.flag, name,
				strings.Join(q.known, " and ")), Hint: nearest.Hint(name, q.known)}
		case !estate.IsName(name):
			return problem.Usage("%s: %q is not a valid name: use a-z, 0-9 and -, starting with a letter", q.flag, name)
		}
	}
	*q.Answer = strings.Join(names, ",")
	return nil
}

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
	parts := strings.Split(c.Parts, ",")
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

// ledgerPath is the line of kasbah.toml that those which seal the ledger come after.
const ledgerPath = "path  = \".kasbah/ledger\"\n"

// config is the kasbah.toml: that of the smallest estate, with what was chosen.
func (c Choices) config(body string, kit bool) string {
	body = strings.Replace(body, `estate = "lantern-coast"`, fmt.Sprintf("estate = %q", c.Estate), 1)
	body = strings.Replace(body, `wards  = ["shore"]`, fmt.Sprintf("wards  = [%q]", c.Ward), 1)
	head, inputs, _ := strings.Cut(body, "[env.trial.inputs]\n")
	if kit {
		head += "[kits]\nstation = \"kits/station\"   # a folder of the estate, or { git = \"URL\", tag = \"v1.0.0\" " +
			"}\n\n"
	}
	head = strings.Replace(head, ledgerPath, ledgerPath+c.Sealing, 1)
	var envs []string
	for _, env := range c.EnvNames() {
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
