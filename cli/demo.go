package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"kasbah/core/enact"
	"kasbah/core/problem"
	"kasbah/demo"
	"kasbah/exit"
)

func demoCommand() *command {
	var keepDir string
	return &command{
		Name: "demo", Short: "see every step on a made-up estate, Lantern Coast",
		Long: "Shows how an estate is declared, checked, proposed, enacted and surveyed, in a temporary " +
			"folder that is removed at the end. -keep leaves the estate for you to try.",
		Examples: [2]string{"kasbah demo", "kasbah demo -keep lantern-coast"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&keepDir, "keep", "", "leave the estate in this `folder` to play with")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) > 0 || a.json {
				return problem.Usage("demo takes no arguments, and tells its story as text only")
			}
			return a.runDemo(ctx, keepDir)
		},
	}
}

func (a *app) runDemo(ctx context.Context, keepDir string) (err error) {
	dir := a.path(keepDir)
	if keepDir == "" {
		if dir, err = os.MkdirTemp("", "lantern-coast-"); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	}
	if _, err := demo.WriteEstate(dir, demo.LanternCoast()); err != nil {
		return err
	}
	steps, last := demo.Story()
	end := "\nThat was the whole way. `kasbah start DIR` writes a small estate of your own; `kasbah demo -keep DIR` " +
		"leaves this one.\n"
	if keepDir == "" {
		steps = append(steps, last...)
	} else {
		end = fmt.Sprintf("\nThe estate is in %s, with everything running in its own Medina. Go on:\n  cd %s\n  kasbah\n"+
			"  kasbah propose -env live\n", keepDir, keepDir)
	}
	t := &demo.Teller{Dir: dir, Out: a.out(), To: a.buffer, Locked: exit.Locked,
		Run: func(ctx context.Context, args []string, by string,
			to io.Writer, heard func()) int {
			return a.inDemo(ctx, dir, args, by, to, heard)
		}}
	for i, step := range steps {
		if err := t.Tell(ctx, i+1, step); err != nil {
			return fmt.Errorf("the demo stopped at step %d: %w", i+1, err)
		}
	}
	a.out().Printf("%s", end)
	return nil
}

// inDemo is another run of the program in the demo's estate, as a person, with results and messages to one
// place.
func (a *app) inDemo(ctx context.Context, dir string, args []string, by string, to io.Writer, heard func()) int {
	b := newApp(strings.NewReader(""), to, to)
	b.dir, b.colour, b.who = dir, a.colour, by
	b.outWidth, b.errWidth = a.outWidth, a.outWidth
	b.outProfile, b.errProfile = a.outProfile, a.outProfile
	b.fixedOutput = true
	b.buffer.Inner()
	b.errors.Inner()
	if heard != nil {
		b.heard = func(enact.Event) { heard() }
	}
	return b.finish(b.main(ctx, args))
}
