package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/disk"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/render"
)

func kitPlaceCommand() *command {
	var ward, function string
	return &command{
		name: "kit place", line: "open an instance of a kit: asks for its inputs and writes the ward", args: "NAME INSTANCE", common: true,
		examples: [2]string{"kasbah kit place beam west -ward shore", "kasbah kit place beam west -ward shore -input lamps=3 -yes"},
		flags: func(fs *flag.FlagSet) {
			fs.StringVar(&ward, "ward", "", "write it into this `ward`, which is made when it is not there; the only one when left out")
			fs.StringVar(&function, "function", "", "the kit's `function`, where it has several")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) != 2 {
				return problem.Usage("kit place wants a kit and a name for the instance")
			}
			given := map[string]string{}
			for _, s := range a.inputs {
				name, v, ok := strings.Cut(s, "=")
				if !ok {
					return problem.Usage("-input wants name=value, not %q", s)
				}
				given[name] = v
			}
			a.inputs = nil // they are the kit's, not the wards'
			pl := &placing{a: a, instance: args[1], ward: ward, given: given}
			return pl.run(ctx, args[0], function)
		},
	}
}

// placing is the writing of one instance.
type placing struct {
	a        *app
	instance string
	ward     string
	given    map[string]string

	p     *project
	kit   *declare.Kit
	f     declare.KitFunction
	loads map[string][]string // file -> names
	args  []string            // `name = EXPRESSION`
}

func (pl *placing) run(ctx context.Context, name, function string) error {
	if !nameForm.MatchString(pl.instance) {
		return problem.Usage("an instance's name is lower-case letters, digits and -, a letter first, and not %q", pl.instance)
	}
	if err := pl.open(ctx, name, function); err != nil {
		return err
	}
	file := pl.ward + "/" + pl.instance + ".star"
	if _, err := os.Lstat(filepath.Join(pl.p.estate.Dir, filepath.FromSlash(file))); !errors.Is(err, fs.ErrNotExist) {
		return problem.Usage("%s is there already; nothing is written over", file)
	}
	if err := pl.inputs(ctx); err != nil {
		return err
	}
	body, err := pl.text()
	if err != nil {
		return err
	}
	a := pl.a
	if !a.json {
		a.out().Printf("%s\n\n", a.out().Paint(render.Grey, file))
		for _, line := range strings.Split(strings.TrimSuffix(string(body), "\n"), "\n") {
			a.out().Printf("    %s\n", line)
		}
		if err := a.flush(); err != nil {
			return err
		}
	}
	if err := a.agree(ctx, "Write it?"); err != nil {
		return err
	}
	return pl.write(ctx, file, body)
}

// open finds the kit, its function and the ward.
func (pl *placing) open(ctx context.Context, name, function string) error {
	a := pl.a
	if _, err := a.estate(); err != nil { // a kit that stands alone is placed nowhere
		return err
	}
	p, o, err := a.kitOptions(ctx)
	if err != nil {
		return err
	}
	pl.p = p
	e := p.estate
	if pl.kit, err = kitNamed(o, name); err != nil {
		return err
	}
	if pl.ward == "" {
		if len(e.Wards) != 1 {
			return &problem.UsageError{Message: "into which ward?", Hint: "-ward " + strings.Join(e.Wards, ", -ward ")}
		}
		pl.ward = e.Wards[0]
	}
	if !nameForm.MatchString(pl.ward) {
		return problem.Usage("%q is no name for a ward", pl.ward)
	}
	functions, problems := declare.DescribeKit(ctx, o, pl.kit)
	if problems.Wrong() > 0 {
		return problems
	}
	var names []string
	for _, f := range functions {
		names = append(names, f.Name)
		if f.Name == function || function == "" && (len(functions) == 1 || f.Name == name) {
			pl.f = f
		}
	}
	if pl.f.Name == "" {
		return &problem.UsageError{Message: fmt.Sprintf("kit %s has no function %q", name, function), Hint: "there is " + joinOr(names)}
	}
	return nil
}

// inputs gathers every input: given by -input, asked for, or left to its
// default. All that is wrong with given ones is told together.
func (pl *placing) inputs(ctx context.Context) error {
	pl.loads = map[string][]string{}
	var wrong problem.List
	var names []string
	ask := pl.a.interactive() && !pl.a.yes
	for _, in := range pl.f.Inputs {
		name := in.Attr.Name
		names = append(names, name)
		raw, given := pl.given[name]
		delete(pl.given, name)
		var text string
		var err error
		switch {
		case given:
			text, err = pl.expression(raw, in.Attr)
		case ask:
			if text, err = pl.ask(ctx, in); err != nil {
				return err
			}
		case !in.HasDefault:
			err = fmt.Errorf("%s is required: give -input %s=…", name, name)
		}
		if err != nil {
			wrong = append(wrong, &problem.Problem{Level: problem.Wrong, Message: err.Error(), Hint: in.Attr.Help})
		} else if text != "" {
			pl.args = append(pl.args, name+" = "+text)
		}
	}
	for _, name := range value.Keys(pl.given) {
		wrong = append(wrong, &problem.Problem{Level: problem.Wrong, Message: fmt.Sprintf("kit %s has no input %q", pl.kit.Name, name), Hint: nearest.Hint(name, names)})
	}
	return wrong.Err()
}

// ask asks a person for one input until what is typed fits. An empty answer
// takes the default.
func (pl *placing) ask(ctx context.Context, in declare.KitInput) (string, error) {
	doc := render.NewFunctionDoc(declare.KitFunction{Inputs: []declare.KitInput{in}}).Inputs[0]
	question := doc.Name + " (" + doc.Kind
	if doc.Limits != "" {
		question += ", " + doc.Limits
	}
	question += ")"
	if declare.IsHandle(in.Attr) {
		question += ", as FILE:NAME of this ward"
	}
	if doc.Default != nil {
		question += " [" + value.Plain(doc.Default.V) + "]"
	}
	if in.Attr.Help != "" {
		fmt.Fprintf(pl.a.errors, "%s\n", render.Clean(in.Attr.Help))
	}
	for {
		answer, err := pl.a.ask(ctx, question+":")
		if err != nil {
			return "", err
		}
		if answer == "" && in.HasDefault {
			return "", nil
		}
		text, err := pl.expression(answer, in.Attr)
		if err == nil {
			return text, nil
		}
		fmt.Fprintf(pl.a.errors, "    %s\n", render.Clean(err.Error()))
	}
}

var fromFile = regexp.MustCompile(`^([A-Za-z0-9_.-]+\.star):([A-Za-z_][A-Za-z0-9_]*)(.*)$`)

// expression turns what was given into the language: a value in TOML, text
// without quotes where the kind is text, FILE:NAME for a name of another file
// of the ward, and anything after = as it stands.
func (pl *placing) expression(raw string, a *schema.Attribute) (string, error) {
	if code, ok := strings.CutPrefix(raw, "="); ok {
		return code, nil
	}
	if m := fromFile.FindStringSubmatch(raw); m != nil {
		pl.loads[m[1]] = append(pl.loads[m[1]], m[2])
		return m[2] + m[3], nil
	}
	if declare.IsHandle(a) {
		return "", fmt.Errorf("%s wants a handle: name one as FILE:NAME, such as shore.star:coast", a.Name)
	}
	v, err := declare.ReadInput(raw, a)
	if err != nil {
		return "", err
	}
	return declare.Literal(v), nil
}

// text is the file to write.
func (pl *placing) text() ([]byte, error) {
	var b strings.Builder
	for _, file := range value.Keys(pl.loads) {
		fmt.Fprintf(&b, "load(%q, %s)\n", file, quoted(pl.loads[file]))
	}
	fmt.Fprintf(&b, "load(\"kit:%s\", %q)\n\n%s(\n    %q,\n", pl.kit.Name, pl.f.Name, pl.f.Name, pl.instance)
	for _, arg := range pl.args {
		fmt.Fprintf(&b, "    %s,\n", arg)
	}
	b.WriteString(")\n")
	return tidyText(pl.ward+"/"+pl.instance+".star", []byte(b.String()))
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

// write writes the file, and the ward into kasbah.toml when it is new; what
// turns out wrong is taken back.
func (pl *placing) write(ctx context.Context, file string, body []byte) error {
	dir := pl.p.estate.Dir
	path := filepath.Join(dir, filepath.FromSlash(file))
	toml := filepath.Join(dir, estate.File)
	before, err := os.ReadFile(toml)
	if err != nil {
		return err
	}
	wrote := []string{file}
	_, noFolder := os.Stat(filepath.Dir(path))
	undo := func() error {
		err := os.Remove(path)
		if noFolder != nil {
			err = errors.Join(err, os.Remove(filepath.Dir(path)))
		}
		return errors.Join(err, disk.Replace(toml, before, 0o644))
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	if err := disk.Replace(path, body, 0o644); err != nil {
		return err
	}
	if !pl.p.estate.HasWard(pl.ward) {
		after, err := estate.WithWard(string(before), pl.ward)
		if err != nil {
			return errors.Join(err, undo())
		}
		if err := disk.Replace(toml, []byte(after), 0o644); err != nil {
			return errors.Join(err, undo())
		}
		wrote = append(wrote, estate.File)
	}
	problems, err := pl.a.recheck(ctx)
	if err != nil || problems.Wrong() > 0 {
		pl.a.errs().Problems(problems)
		pl.a.say("Nothing is written: with it the estate is wrong.")
		return errors.Join(err, undo(), exitError(exitFailed))
	}
	if pl.a.json {
		return pl.a.document(map[string]any{"format": "kasbah.place/1", "files": wrote})
	}
	pl.a.out().Printf("\nwrote %s\nNext: kasbah propose %s\n", strings.Join(wrote, ", "), pl.ward)
	return nil
}

// recheck evaluates the estate as it is on disk now.
func (a *app) recheck(ctx context.Context) (problem.List, error) {
	p, err := a.open(ctx, nil)
	if err != nil {
		return nil, err
	}
	_, _, problems, err := a.evaluate(ctx, p)
	return problems, err
}
