package cli

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"kasbah/core/enact"
	"kasbah/core/problem"
	"kasbah/demo"
	"kasbah/render"
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
	s := &story{a: a, dir: dir}
	for i, step := range steps {
		if err := s.tell(ctx, i+1, step); err != nil {
			return fmt.Errorf("the demo stopped at step %d: %w", i+1, err)
		}
	}
	a.out().Printf("%s", end)
	return nil
}

// story tells the demo. Every step runs the very command that it shows.
type story struct {
	a   *app
	dir string
}

func (s *story) tell(ctx context.Context, n int, step demo.Step) error {
	out := s.a.out()
	out.Printf("\n%s\n%s\n", out.Bold(fmt.Sprintf("%d. %s", n, step.Title)), render.Wrap(step.Text, out.Width, ""))
	if step.Show != nil {
		text, err := step.Show.Read(s.dir)
		if err != nil {
			return err
		}
		out.Printf("\n")
		out.File(step.Show.File, text)
	}
	if e := step.Edit; e != nil {
		if err := e.Make(s.dir); err != nil {
			return err
		}
		out.Printf("\nin %s:  %s  becomes  %s\n", e.File, e.Old, e.New)
	}
	if step.Together != nil {
		if err := s.together(ctx, step.Together); err != nil {
			return err
		}
	}
	for _, c := range step.Commands {
		if err := ctx.Err(); err != nil {
			return err
		}
		s.prompt(c.Args, "")
		if err := ended(c.Args, s.command(s.a.buffer, "").code(ctx, c.Args), c.Exit); err != nil {
			return err
		}
	}
	return nil
}

func (s *story) prompt(args []string, by string) {
	line := "$ kasbah " + strings.Join(args, " ") + by
	s.a.out().Printf("\n%s\n", s.a.out().Paint(render.Blue, line))
}

// ended is an error for a command that ended otherwise than the story has it.
func ended(args []string, code, want int) error {
	if code != want {
		return fmt.Errorf("kasbah %s ended with %d, not %d", strings.Join(args, " "), code, want)
	}
	return nil
}

// command is another run of the program in the estate, writing results and
// messages to one place.
func (s *story) command(w io.Writer, by string) *app {
	b := newApp(strings.NewReader(""), w, w)
	b.dir, b.colour, b.who = s.dir, s.a.colour, by
	b.outWidth, b.errWidth = s.a.outWidth, s.a.outWidth
	b.outProfile, b.errProfile = s.a.outProfile, s.a.outProfile
	b.fixedOutput, b.buffer.inner, b.errors.inner = true, true, true
	return b
}

func (b *app) code(ctx context.Context, args []string) int { return b.finish(b.main(ctx, args)) }

// together runs a command and, while it holds the lock, the same command as another person.
func (s *story) together(ctx context.Context, args []string) error {
	var first, second bytes.Buffer
	refused := exitDone
	one := s.command(&first, "keeper-1")
	var once sync.Once
	one.heard = func(enact.Event) { // the run goes on when this returns
		once.Do(func() { refused = s.command(&second, "keeper-2").code(ctx, args) })
	}
	code := one.code(ctx, args)
	s.prompt(args, "      (keeper-1)")
	told, cut := demo.WithoutProposal(first.Bytes())
	if cut {
		s.a.out().Printf("%s\n", s.a.out().Paint(render.Grey, "(the proposal, as above)"))
	}
	s.a.buffer.Write(told)
	if err := ended(args, code, exitDone); err != nil {
		return err
	}
	s.prompt(args, "      (keeper-2, at the same time)")
	if i := bytes.Index(second.Bytes(), []byte("refused:")); i >= 0 {
		s.a.buffer.Write(second.Bytes()[i:])
	}
	return ended(args, refused, exitLocked)
}
