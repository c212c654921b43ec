package kits

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/disk"
	"kasbah/core/estate"
	"kasbah/core/form"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/tidy"
	"kasbah/core/value"
)

// Instance is the use of a kit's function that is to be written into a ward.
type Instance struct {
	Name     string
	Ward     string
	Folder   string // of the ward, from the estate's folder
	Kit      *declare.Kit
	Function declare.KitFunction

	loads map[string][]string // file -> names
	args  []string            // `name = EXPRESSION`
}

// File is where the instance stands, from the estate's folder.
func (in *Instance) File() string { return cmp.Or(in.Folder, in.Ward) + "/" + in.Name + ".star" }

// Give gives an input an expression of the language, as Expression makes them.
func (in *Instance) Give(name, expression string) { in.args = append(in.args, name+" = "+expression) }

// Gather gives the instance every input: as it is given by name, as ask has it, or left to its
// default. All that is wrong with given ones is one error. ask may be nil; "" takes the default.
func (in *Instance) Gather(given map[string]string, ask func(question string) (string, error), tell func(string)) error {
	var wrong problem.List
	var names []string
	for _, input := range in.Function.Inputs {
		name := input.Attr.Name
		names = append(names, name)
		raw, isGiven := given[name]
		var text string
		var err error
		switch {
		case isGiven:
			text, err = in.Expression(raw, input.Attr)
		case ask != nil:
			if text, err = in.asked(input, ask, tell); err != nil {
				return err
			}
		case !input.HasDefault:
			err = fmt.Errorf("%s is required: give -input %s=…", name, name)
		}
		if err != nil {
			wrong = append(wrong, &problem.Problem{Level: problem.Wrong, Message: err.Error(), Hint: input.Attr.Help})
		} else if text != "" {
			in.Give(name, text)
		}
	}
	for _, name := range value.Keys(given) {
		if !slices.Contains(names, name) {
			wrong = append(wrong, &problem.Problem{Level: problem.Wrong, Message: fmt.Sprintf("kit %s has no input %q",
				in.Kit.Name, name), Hint: nearest.Hint(name, names)})
		}
	}
	return wrong.Err()
}

// asked asks a person for one input until what is typed fits. An empty answer takes the default.
func (in *Instance) asked(input declare.KitInput, ask func(question string) (string, error),
	tell func(string)) (string, error) {
	if input.Attr.Help != "" {
		tell(input.Attr.Help)
	}
	for {
		answer, err := ask(input.Question() + ":")
		if err != nil || answer == "" && input.HasDefault {
			return "", err
		}
		text, err := in.Expression(answer, input.Attr)
		if err == nil {
			return text, nil
		}
		tell("    " + err.Error())
	}
}

func (in *Instance) load(file, name string) {
	if in.loads == nil {
		in.loads = map[string][]string{}
	}
	in.loads[file] = append(in.loads[file], name)
}

var fromFile = form.Of(`^([A-Za-z0-9_.-]+\.star):([A-Za-z_][A-Za-z0-9_]*)(.*)$`)

// Expression turns what was given into the language: a value in TOML, text
// without quotes where the kind is text, FILE:NAME for a name of another file
// of the ward, and anything after = as it stands.
func (in *Instance) Expression(raw string, a *schema.Attribute) (string, error) {
	if code, ok := strings.CutPrefix(raw, "="); ok {
		return code, nil
	}
	if m := fromFile().FindStringSubmatch(raw); m != nil {
		in.load(m[1], m[2])
		return m[2] + m[3], nil
	}
	if declare.IsHandle(a) {
		return "", fmt.Errorf("%s must be a handle: name one as FILE:NAME, such as shore.star:coast", a.Name)
	}
	v, err := declare.ReadInput(raw, a)
	if err != nil {
		return "", err
	}
	return declare.Literal(v), nil
}

// Text is the file to write.
func (in *Instance) Text() ([]byte, error) {
	var b strings.Builder
	for _, file := range value.Keys(in.loads) {
		fmt.Fprintf(&b, "load(%q, %s)\n", file, quoted(in.loads[file]))
	}
	fmt.Fprintf(&b, "load(\"kit:%s\", %q)\n\n%s(\n    %q,\n", in.Kit.Name, in.Function.Name, in.Function.Name, in.Name)
	for _, arg := range in.args {
		fmt.Fprintf(&b, "    %s,\n", arg)
	}
	b.WriteString(")\n")
	return tidy.Text(in.File(), []byte(b.String()))
}

func quoted(names []string) string {
	var out []string
	seen := map[string]bool{}
	for _, n := range names {
		if !seen[n] {
			seen[n] = true
			out = append(out, strconv.Quote(n))
		}
	}
	return strings.Join(out, ", ")
}

// Write writes the file, and the ward into kasbah.toml when it is new. Where check then finds
// something wrong, all is as it was before, and the error is check's own. It returns the files
// that it wrote.
func (in *Instance) Write(e *estate.Estate, body []byte, check func() error) ([]string, error) {
	path := filepath.Join(e.Dir, filepath.FromSlash(in.File()))
	toml := filepath.Join(e.Dir, estate.File)
	before, err := os.ReadFile(toml)
	if err != nil {
		return nil, err
	}
	wrote := []string{in.File()}
	_, noFolder := os.Stat(filepath.Dir(path))
	undo := func() error {
		err := os.Remove(path)
		if noFolder != nil {
			err = errors.Join(err, os.Remove(filepath.Dir(path)))
		}
		return errors.Join(err, disk.Replace(toml, before, 0o644))
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	if err := disk.Replace(path, body, 0o644); err != nil {
		return nil, err
	}
	if !e.HasWard(in.Ward) {
		after, err := estate.WithWard(string(before), in.Ward)
		if err == nil {
			err = disk.Replace(toml, []byte(after), 0o644)
		}
		if err != nil {
			return nil, errors.Join(err, undo())
		}
		wrote = append(wrote, estate.File)
	}
	if err := check(); err != nil {
		if undone := undo(); undone != nil {
			err = errors.Join(err, fmt.Errorf("what was written could not be taken back: %w", undone))
		}
		return nil, err
	}
	return wrote, nil
}
