package cli

import (
	"bytes"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

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

// story tells the demo. Every step runs the very command that it shows.
type story struct {
	a    *app
	dir  string
	step int
	err  error // the first thing that went otherwise than told
}

func (a *app) runDemo(ctx context.Context, keepDir string) (err error) {
	dir := keepDir
	if dir == "" {
		if dir, err = os.MkdirTemp("", "lantern-coast-"); err != nil {
			return err
		}
		defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	} else if !filepath.IsAbs(dir) {
		dir = filepath.Join(a.dir, dir)
	}
	if _, err := demo.WriteEstate(dir, demo.LanternCoast()); err != nil {
		return err
	}
	s := &story{a: a, dir: dir}
	s.tell("Declare", "An association of keepers runs telemetry for its lighthouses. Each ward of their estate is a "+
		"folder of Starlark files; this one opens a station for every light, from one map of lights.")
	s.show("shore/shore.star", 1, 24)
	s.tell("Check", "Every mistake that can be known offline is found offline.")
	s.run(ctx, exitDone, "check", "-env", "trial")
	s.tell("Look", "The graph follows from how the resources use each other.")
	s.run(ctx, exitDone, "map", "shore", "-env", "trial")
	s.tell("Why", "Where does a value come from? Every line on its way is named, down to the input and who gave it.")
	s.run(ctx, exitDone, "why", "sallow/medina.disk/tape.zone", "-env", "trial")
	s.tell("Propose", "What would change, against the ledger and the live cloud. Values that the cloud decides say "+
		"where they will come from.")
	s.run(ctx, exitDone, "propose", "-env", "trial")
	s.run(ctx, exitDone, "cost", "-env", "trial")
	s.tell("Enact", "In dependency order, many at a time. Meanwhile a second keeper tries the same, and is refused "+
		"by the lock.")
	s.twoAtOnce(ctx)
	s.tell("An edit by hand", "A keeper changes a gauge in the cloud's console, past the code.")
	s.run(ctx, exitDone, "medina", "edit", "machine", "trial-shore-sallow-gauge", "size=large", "tags.owner=harbour", "-as",
		"keeper-2", "-env", "trial")
	s.tell("Survey", "Recorded against live: what was edited, by whom and when.")
	s.run(ctx, exitDifferent, "survey", "-env", "trial", "-exit-code")
	s.tell("Put it back", "Enacting again restores what is declared.")
	s.run(ctx, exitDone, "enact", "-env", "trial", "-yes", "-quiet")
	s.tell("An edit that swaps", "A machine's image is fixed, so a new one means another machine. The disk that uses "+
		"it moves along, and so do the texts with its address in other wards. The new gauge is made first, then the "+
		"old one goes.")
	s.edit("shore/shore.star", `image = "stone-1"`, `image = "stone-2"`)
	s.run(ctx, exitDone, "enact", "-env", "trial", "-yes")
	s.tell("Look back", "Who changed what, when, and how it ended.")
	s.run(ctx, exitDone, "ledger", "log", "shore", "-env", "trial")
	s.run(ctx, exitDone, "ledger", "verify", "-env", "trial")
	if keepDir != "" && s.err == nil {
		s.a.out().Printf("\nThe estate is in %s, with everything running in its own Medina. Go on:\n  cd %s\n  "+
			"kasbah\n  kasbah propose -env live\n", keepDir, keepDir)
		return nil
	}
	s.tell("Raze", "Tear everything down. Losing data asks for consent, here by a flag.")
	s.run(ctx, exitDone, "raze", "-env", "trial", "-yes", "-allow", "data", "-quiet")
	s.run(ctx, exitDone, "medina", "list", "-env", "trial")
	if s.err == nil {
		s.a.out().Printf("\nThat was the whole way. `kasbah start DIR` writes a small estate of your own; `kasbah " +
			"demo -keep DIR` leaves this one.\n")
	}
	return s.err
}

func (s *story) tell(title, text string) {
	if s.err != nil {
		return
	}
	s.step++
	out := s.a.out()
	out.Printf("\n%s\n%s\n", out.Bold(fmt.Sprintf("%d. %s", s.step, title)), render.Wrap(text, s.a.outWidth, ""))
}

// show prints some lines of a file.
func (s *story) show(file string, from, to int) {
	body, err := os.ReadFile(filepath.Join(s.dir, file))
	if err != nil {
		s.fail(err)
		return
	}
	out := s.a.out()
	out.Printf("\n%s\n", out.Paint(render.Grey, file))
	for i, line := range strings.Split(string(body), "\n") {
		if i+1 >= from && i+1 <= to {
			out.Printf("    %s\n", line)
		}
	}
}

// edit changes a file as a person would, and shows how.
func (s *story) edit(file, old, new string) {
	if s.err != nil {
		return
	}
	path := filepath.Join(s.dir, file)
	body, err := os.ReadFile(path)
	if err == nil && !bytes.Contains(body, []byte(old)) {
		err = fmt.Errorf("%s does not hold %s", file, old)
	}
	if err == nil {
		err = os.WriteFile(path, bytes.ReplaceAll(body, []byte(old), []byte(new)), 0o644)
	}
	if err != nil {
		s.fail(err)
		return
	}
	s.a.out().Printf("\nin %s:  %s  becomes  %s\n", file, old, new)
}

func (s *story) fail(err error) {
	if s.err == nil {
		s.err = fmt.Errorf("the demo stopped at step %d: %w", s.step, err)
	}
}

func (s *story) prompt(args []string, by string) {
	out := s.a.out()
	line := "$ kasbah " + strings.Join(args, " ")
	if by != "" {
		line += "      (" + by + ")"
	}
	out.Printf("\n%s\n", out.Paint(render.Blue, line))
}

// run runs a command and wants an exit code.
func (s *story) run(ctx context.Context, want int, args ...string) {
	if s.err != nil {
		return
	}
	if err := ctx.Err(); err != nil {
		s.fail(err)
		return
	}
	s.prompt(args, "")
	s.expect(want, s.command(s.a.buffer, "").code(ctx, args), args)
}

func (s *story) expect(want, got int, args []string) {
	if got != want {
		s.fail(fmt.Errorf("kasbah %s ended with %d, not %d", strings.Join(args, " "), got, want))
	}
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

// twoAtOnce runs an enact and, while it holds the lock, another one.
func (s *story) twoAtOnce(ctx context.Context) {
	if s.err != nil {
		return
	}
	args := []string{"enact", "-env", "trial", "-yes", "-allow", "security"}
	var first, second bytes.Buffer
	done := make(chan int, 1)
	go func() { done <- s.command(&first, "keeper-1").code(ctx, args) }()
	held := s.untilLocked(ctx, done)
	code := exitLocked
	if held {
		code = s.command(&second, "keeper-2").code(ctx, args)
	}
	s.prompt(args, "keeper-1")
	s.expect(exitDone, <-done, args)
	told := first.Bytes()
	if i := bytes.Index(told, []byte("Longest chain")); i >= 0 { // the proposal was told above
		told = told[i:]
		told = told[bytes.IndexByte(told, '\n')+1:]
		s.a.out().Printf("%s\n", s.a.out().Paint(render.Grey, "(the proposal, as above)"))
	}
	s.a.buffer.Write(told)
	s.prompt(args, "keeper-2, at the same time")
	if i := bytes.Index(second.Bytes(), []byte("refused:")); i >= 0 {
		s.a.buffer.Write(second.Bytes()[i:])
	}
	s.expect(exitLocked, code, args)
}

// untilLocked waits until a run holds a lock in the estate, or done tells
// that it has ended.
func (s *story) untilLocked(ctx context.Context, done chan int) bool {
	for {
		var out bytes.Buffer
		if s.command(&out, "").code(ctx, []string{"lock", "-env", "trial"}) != exitDone {
			return false
		}
		if bytes.Contains(out.Bytes(), []byte("keeper-1")) {
			return true
		}
		select {
		case code := <-done:
			done <- code
			return false
		case <-time.After(20 * time.Millisecond):
		}
	}
}
