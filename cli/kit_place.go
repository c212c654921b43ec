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

	"kasbah/core/problem"
	"kasbah/exit"
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
	var ask func(string) (string, error)
	if a.interactive() && !a.yes {
		ask = func(question string) (string, error) { return a.person.Ask(ctx, question) }
	}
	tell := func(words string) { fmt.Fprintf(a.errors, "%s\n", render.Clean(words)) }
	if err := pl.Gather(pl.given, ask, tell); err != nil {
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

// write writes the file, and takes back what turns out wrong.
func (pl *placing) write(ctx context.Context, body []byte) error {
	a := pl.a
	wrote, err := pl.Write(pl.kits.Estate, body, func() error {
		s, err := a.open(ctx, nil)
		if err != nil {
			return err
		}
		e, err := s.Evaluate(ctx, s.Others())
		if err != nil {
			return err
		}
		return e.Problems.Err()
	})
	if problems, takenBack := err.(problem.List); takenBack { // anything else is an error of its own
		a.errs().Problems(problems)
		a.say("Nothing is written: with it the estate is wrong.")
		return exit.Error(exit.Failed)
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
