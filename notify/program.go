package notify

import (
	"bytes"
	"context"
	"fmt"
	"os/exec"
	"strings"
	"time"

	"kasbah/core/alert"
	"kasbah/core/environ"
)

// Program gets events on its standard input, one each time it runs.
type Program struct {
	Filter
	Source
	Called string
	Run    []string
	Dir    string // where it runs: the estate's folder
}

// Name is what kasbah.toml calls it.
func (p *Program) Name() string { return p.Called }

// told is how much of what a program says is kept, in bytes.
const told = 300

// Send runs the program. It is an error unless it ends with 0 before the context does.
func (p *Program) Send(ctx context.Context, m *alert.Message) error {
	body, err := p.encode(m)
	if err != nil {
		return err
	}
	cmd := exec.CommandContext(ctx, p.Run[0], p.Run[1:]...)
	cmd.Dir, cmd.Env, cmd.Stdin = p.Dir, environ.For(), bytes.NewReader(append(body, '\n'))
	said := &limited{}
	cmd.Stderr = said
	cmd.WaitDelay = time.Second
	if err := cmd.Run(); ctx.Err() != nil {
		return fmt.Errorf("%s took too long", p.Run[0])
	} else if err != nil {
		return fmt.Errorf("%s: %w: %s", p.Run[0], err, strings.TrimSpace(string(said.b)))
	}
	return nil
}

// limited keeps the beginning of what is written.
type limited struct{ b []byte }

func (l *limited) Write(p []byte) (int, error) {
	if n := told - len(l.b); n > 0 {
		l.b = append(l.b, p[:min(n, len(p))]...)
	}
	return len(p), nil
}
