package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/demo"
	"kasbah/render"
)

// choices are what a new estate is made of.
type choices struct {
	estate string
	ward   string
	envs   string // names with commas between them
	parts  string // of startParts, with commas between them
	seal   string // all or off
}

// startParts can be added to a new estate.
var startParts = []string{"kit", "rules"}

func startCommand() *command {
	var c choices
	return &command{
		name: "start", line: "write a small working estate with Medina embedded; asks what it is to hold", args: "DIR",
		examples: [2]string{"kasbah start lantern-coast", "kasbah start . -envs trial,live -parts kit,rules -yes"},
		flags: func(fs *flag.FlagSet) {
			fs.StringVar(&c.estate, "estate", "", "the estate's `name`; the folder's when left out")
			fs.StringVar(&c.ward, "ward", "", "the first ward's `name`; shore when left out")
			fs.StringVar(&c.envs, "envs", "", "the `environments`, with commas; trial when left out")
			fs.StringVar(&c.parts, "parts", "", "add these `parts`, with commas: kit (a reusable part and its tests), rules (house rules and their tests)")
			fs.StringVar(&c.seal, "seal", "all", "all makes a key and encrypts the ledger; off does not, and no secret can be recorded then")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return problem.Usage("start wants one folder")
			}
			dir := args[0]
			if !filepath.IsAbs(dir) {
				dir = filepath.Join(a.dir, dir)
			}
			if err := c.choose(ctx, a, estateNamed(dir)); err != nil {
				return err
			}
			all, err := c.files()
			if err != nil {
				return err
			}
			if err := nothingThere(dir, all); err != nil {
				return err
			}
			said := ""
			switch c.seal {
			case "all":
				var lines string
				if lines, said, err = a.newSealing(); err != nil {
					return err
				}
				all[estate.File] = []byte(strings.Replace(string(all[estate.File]), "path  = \".kasbah/ledger\"\n", "path  = \".kasbah/ledger\"\n"+lines, 1))
			case "off":
			default:
				return problem.Usage("-seal is all or off, not %q", c.seal)
			}
			files, err := writeFiles(dir, all)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(map[string]any{"format": "kasbah.start/1", "dir": dir, "files": files})
			}
			out := a.out()
			for _, f := range files {
				out.Printf("wrote %s\n", filepath.Join(args[0], f))
			}
			if said != "" {
				out.Printf("%s\n", render.Wrap(said, a.outWidth, "  "))
			}
			env := ""
			if envs := strings.Split(c.envs, ","); len(envs) > 1 {
				env = " -env " + envs[0]
			}
			out.Printf("\nNext:\n")
			if filepath.Clean(args[0]) != "." {
				out.Printf("  cd %s\n", quotedWord(args[0]))
			}
			out.Printf("  kasbah propose%s\n  kasbah enact%s\n", env, env)
			return nil
		},
	}
}

// estateNamed is the name that an estate in a folder has unless another one is given: the
// folder's own, where that can be one.
func estateNamed(dir string) string {
	abs, err := filepath.Abs(dir)
	if name := strings.ToLower(filepath.Base(abs)); err == nil && nameForm.MatchString(name) {
		return name
	}
	return "lantern-coast"
}

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]*$`)

// choose asks at a terminal for what no flag gave, and checks what was given.
func (c *choices) choose(ctx context.Context, a *app, name string) error {
	ask := a.interactive() && !a.yes && !a.json && *c == choices{seal: c.seal}
	for _, q := range []struct {
		to             *string
		question, flag string
		otherwise      string
		many           bool     // several may be given, with commas between them
		known          []string // what may stand in a list; nil for names
		none           bool     // it may be empty
	}{
		{to: &c.estate, question: "Name of the estate", flag: "-estate", otherwise: name},
		{to: &c.ward, question: "Its first ward, a folder of declarations", flag: "-ward", otherwise: "shore"},
		{to: &c.envs, question: "Its environments, with commas between them", flag: "-envs", otherwise: "trial", many: true},
		{to: &c.parts, question: "Add what, with commas: kit (a reusable part), rules (house rules)", flag: "-parts", many: true, known: startParts, none: true},
	} {
		for {
			var err error
			if ask {
				shown := q.otherwise
				if q.none {
					shown = "none"
				}
				if *q.to, err = a.ask(ctx, fmt.Sprintf("%s [%s]:", q.question, shown)); err != nil {
					return err
				}
				if q.none && *q.to == "none" {
					*q.to = ""
				}
			}
			if *q.to == "" {
				*q.to = q.otherwise
			}
			if err = checkNames(q.to, q.flag, q.many, q.known); err == nil {
				break
			}
			if !ask {
				return err
			}
			a.say("    %v", err)
		}
	}
	return nil
}

// checkNames checks a name, or several with commas between them, around which
// spaces are taken out.
func checkNames(list *string, flag string, many bool, known []string) error {
	if *list == "" {
		return nil
	}
	names := []string{*list}
	if many {
		names = strings.Split(*list, ",")
		for i := range names {
			names[i] = strings.TrimSpace(names[i])
		}
		*list = strings.Join(names, ",")
	}
	for _, name := range names {
		switch {
		case known != nil && !slices.Contains(known, name):
			return &problem.UsageError{Message: fmt.Sprintf("%s: there is no part %q, only %s", flag, name, strings.Join(known, " and ")), Hint: nearest.Hint(name, known)}
		case !nameForm.MatchString(name):
			return problem.Usage("%s: %q is no name: lower-case letters, digits and -, a letter first", flag, name)
		}
	}
	return nil
}

// files are the estate's files by path.
func (c *choices) files() (map[string][]byte, error) {
	base, err := allFiles(demo.Start())
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for name, body := range base {
		if rest, ok := strings.CutPrefix(name, "shore/"); ok {
			name = c.ward + "/" + rest
		}
		out[name] = body
	}
	parts := strings.Split(c.parts, ",")
	if slices.Contains(parts, "kit") {
		coast, err := allFiles(demo.LanternCoast())
		if err != nil {
			return nil, err
		}
		for name, body := range coast {
			if strings.HasPrefix(name, "kits/station/") || strings.HasPrefix(name, "common/") {
				out[name] = body
			}
		}
		out[c.ward+"/shore.star"] = coast["shore/shore.star"]
	}
	if slices.Contains(parts, "rules") {
		rules, err := allFiles(demo.Parts())
		if err != nil {
			return nil, err
		}
		for name, body := range rules {
			out[name] = body
		}
	}
	if c.ward != "shore" {
		out[c.ward+"/"+c.ward+".star"] = out[c.ward+"/shore.star"]
		delete(out, c.ward+"/shore.star")
	}
	out[estate.File] = []byte(c.config(string(base[estate.File]), slices.Contains(parts, "kit")))
	return out, nil
}

// config is the kasbah.toml: that of the smallest estate, with what was chosen.
func (c *choices) config(body string, kit bool) string {
	body = strings.Replace(body, `estate = "lantern-coast"`, fmt.Sprintf("estate = %q", c.estate), 1)
	body = strings.Replace(body, `wards  = ["shore"]`, fmt.Sprintf("wards  = [%q]", c.ward), 1)
	head, inputs, _ := strings.Cut(body, "[env.trial.inputs]\n")
	if kit {
		head += "[kits]\nstation = \"kits/station\"   # a folder of the estate, or { git = \"URL\", tag = \"v1.0.0\" }\n\n"
	}
	var envs []string
	for _, env := range strings.Split(c.envs, ",") {
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

// writeEstate writes an embedded estate into a folder and overwrites nothing.
func writeEstate(dir string, from fs.FS) ([]string, error) {
	all, err := allFiles(from)
	if err != nil {
		return nil, err
	}
	return writeFiles(dir, all)
}

// writeFiles writes files into a folder and overwrites nothing.
func writeFiles(dir string, all map[string][]byte) ([]string, error) {
	files := value.Keys(all)
	if err := nothingThere(dir, all); err != nil {
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

// nothingThere is an error when one of the files is in a folder already.
func nothingThere(dir string, all map[string][]byte) error {
	for _, f := range value.Keys(all) {
		if _, err := os.Lstat(filepath.Join(dir, f)); err == nil {
			return problem.Usage("%s is there already; nothing is written over", filepath.Join(dir, f))
		} else if !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
