package demo

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"
	"sync"

	"kasbah/render"
)

// Teller tells the story. Every step runs the very command that it shows.
type Teller struct {
	Dir string // of the estate
	Out *render.Out
	To  io.Writer // where Out writes
	// Run runs the program in the estate as a person ("" for the usual one), with results and messages
	// to one place. heard is called for each event of a run, which goes on when it returns; it may be nil.
	Run func(ctx context.Context, args []string, by string, to io.Writer, heard func()) (code int)
	// Locked is the code with which a command ends that another one keeps out.
	Locked int
}

// Tell tells one step. It is an error when a command ends otherwise than the story has it.
func (t *Teller) Tell(ctx context.Context, n int, step Step) error {
	t.Out.Printf("\n%s\n%s\n", t.Out.Bold(fmt.Sprintf("%d. %s", n, step.Title)), render.Wrap(step.Text, t.Out.Width, ""))
	if step.Show != nil {
		text, err := step.Show.Read(t.Dir)
		if err != nil {
			return err
		}
		t.Out.Printf("\n")
		t.Out.File(step.Show.File, text)
	}
	if e := step.Edit; e != nil {
		if err := e.Make(t.Dir); err != nil {
			return err
		}
		t.Out.Printf("\nin %s:  %s  becomes  %s\n", e.File, e.Old, e.New)
	}
	if step.Together != nil {
		if err := t.together(ctx, step.Together); err != nil {
			return err
		}
	}
	for _, c := range step.Commands {
		if err := ctx.Err(); err != nil {
			return err
		}
		t.prompt(c.Args, "")
		if err := ended(c.Args, t.Run(ctx, c.Args, "", t.To, nil), c.Exit); err != nil {
			return err
		}
	}
	return nil
}

func (t *Teller) prompt(args []string, by string) {
	t.Out.Printf("\n%s\n", t.Out.Paint(render.Blue, "$ kasbah "+strings.Join(args, " ")+by))
}

// ended is an error for a command that ended otherwise than the story has it.
func ended(args []string, code, want int) error {
	if code != want {
		return fmt.Errorf("kasbah %s ended with %d, not %d", strings.Join(args, " "), code, want)
	}
	return nil
}

// together runs a command and, while it holds the lock, the same command as another person.
func (t *Teller) together(ctx context.Context, args []string) error {
	var first, second bytes.Buffer
	refused := 0
	var once sync.Once
	code := t.Run(ctx, args, "keeper-1", &first, func() {
		once.Do(func() { refused = t.Run(ctx, args, "keeper-2", &second, nil) })
	})
	t.prompt(args, "      (keeper-1)")
	told, cut := WithoutProposal(first.Bytes())
	if cut {
		t.Out.Printf("%s\n", t.Out.Paint(render.Grey, "(the proposal, as above)"))
	}
	if _, err := t.To.Write(told); err != nil {
		return err
	}
	if err := ended(args, code, 0); err != nil {
		return err
	}
	t.prompt(args, "      (keeper-2, at the same time)")
	if i := bytes.Index(second.Bytes(), []byte("refused:")); i >= 0 {
		if _, err := t.To.Write(second.Bytes()[i:]); err != nil {
			return err
		}
	}
	return ended(args, refused, t.Locked)
}
