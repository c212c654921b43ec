package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/kits"
	"kasbah/render"
	"kasbah/session"
)

func kitPlaceCommand() *command {
	var ward, function string
	return &command{
		Name: "kit place", Short: "write an instance of a kit into a ward, asking for its inputs",
		Args: "NAME INSTANCE", Estate: true,
		Long: "Writes a new file that calls a function of the kit. It asks for each input, or takes -input " +
			"name=value. The file is taken back if the estate is wrong with it.",
		Examples: [2]string{"kasbah kit place beam west -ward shore",
			"kasbah kit place beam west -ward shore -input lamps=3 -yes"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&ward, "ward", "", "write it into this `ward`, which is made when it is not there; the only "+
				"one when left out")
			fs.StringVar(&function, "function", "", "the kit's `function`, where it has several")
		},
		Takes: exactly(2, "a kit and a name for the instance"),
		Run: func(ctx context.Context, a *app, args []string) error {
			given := map[string]string{}
			for _, s := range a.inputs {
				name, v, ok := strings.Cut(s, "=")
				if !ok {
					return problem.Usage("-input must be name=value, not %q", s)
				}
				given[name] = v
			}
			a.inputs = nil                                       // they are the kit's, not the wards'
			if _, err := session.FindEstate(a.dir); err != nil { // a kit that is on its own is placed nowhere
				return err
			}
			k, err := a.openKits(ctx)
			if err != nil {
				return err
			}
			in, err := k.Instance(ctx, args[0], function, ward, args[1])
			if err != nil {
				return err
			}
			return (&placing{a, given, k, in}).run(ctx)
		},
	}
}

// placing is the writing of one instance.
type placing struct {
	a     *app
	given map[string]string
	kits  *session.Kits
	*kits.Instance
}

func (pl *placing) run(ctx context.Context) error {
	a, file := pl.a, pl.File()
	if _, err := os.Lstat(filepath.Join(pl.kits.Estate.Dir, filepath.FromSlash(file))); !errors.Is(err,
		fs.ErrNotExist) {
		return problem.Usage("%s is there already; nothing is written over", file)
	}
	if err := pl.inputs(ctx); err != nil {
		return err
	}
	body, err := pl.Text()
	if err != nil {
		return err
	}
	a.out().File(file, string(body))
	if err := a.flush(); err != nil {
		return err
	}
	if err := a.agree(ctx, "Write it?"); err != nil {
		return err
	}
	return pl.write(ctx, body)
}

// inputs gathers every input: given by -input, asked for, or left to its
// default. All that is wrong with given ones is told together.
func (pl *placing) inputs(ctx context.Context) error {
	var wrong problem.List
	var names []string
	ask := pl.a.interactive() && !pl.a.yes
	for _, in := range pl.Function.Inputs {
		name := in.Attr.Name
		names = append(names, name)
		raw, given := pl.given[name]
		delete(pl.given, name)
		var text string
		var err error
		switch {
		case given:
			text, err = pl.Expression(raw, in.Attr)
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
			pl.Give(name, text)
		}
	}
	for _, name := range value.Keys(pl.given) {
		wrong = append(wrong, &problem.Problem{Level: problem.Wrong, Message: fmt.Sprintf("kit %s has no input %q",
			pl.Kit.Name, name), Hint: nearest.Hint(name, names)})
	}
	return wrong.Err()
}

// ask asks a person for one input until what is typed fits. An empty answer
// takes the default.
func (pl *placing) ask(ctx context.Context, in declare.KitInput) (string, error) {
	doc := declare.NewFunctionDoc(declare.KitFunction{Inputs: []declare.KitInput{in}}).Inputs[0]
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
		text, err := pl.Expression(answer, in.Attr)
		if err == nil {
			return text, nil
		}
		fmt.Fprintf(pl.a.errors, "    %s\n", render.Clean(err.Error()))
	}
}

// write writes the file, and takes back what turns out wrong.
func (pl *placing) write(ctx context.Context, body []byte) error {
	a := pl.a
	var problems problem.List
	wrote, err := pl.Write(pl.kits.Estate, body, func() error {
		s, err := a.open(ctx, nil)
		if err != nil {
			return err
		}
		e, err := s.Evaluate(ctx, s.Others())
		if err != nil {
			return err
		}
		problems = e.Problems
		return problems.Err()
	})
	if _, takenBack := err.(problem.List); takenBack { // anything else is an error of its own
		a.errs().Problems(problems)
		a.say("Nothing is written: with it the estate is wrong.")
		return exitError(exitFailed)
	}
	if err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{"format": "kasbah.place/1", "files": wrote})
	}
	a.out().Printf("\nwrote %s\nNext: kasbah propose %s\n", strings.Join(wrote, ", "), pl.Ward)
	return nil
}
