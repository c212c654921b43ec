// Package program runs other programs: in a process group of their own, for a bounded time and with a bounded
// output.
package program

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"strings"
	"time"
)

// Options say what is run, and how.
type Options struct {
	Command []string
	Dir     string   // where it runs
	Env     []string // all that it gets, as NAME=VALUE
	In      []byte   // on its standard input
	Time    time.Duration
	Most    int // bytes of its standard output
}

// Result is how a program ended.
type Result struct {
	Out    []byte // at most Options.Most bytes
	Said   string // the end of what it wrote to standard error
	Code   int    // -1 where a signal ended it
	Signal string // which; "" for none
	Late   bool   // it did not end in time, and was killed
	Flood  bool   // it wrote more than Options.Most, and was killed
}

// said is how much of a program's standard error is kept, in bytes.
const said = 2000

// Run runs a program and whatever that starts. The error says why it could not be started, or is that of the
// context.
func Run(ctx context.Context, o Options) (Result, error) {
	running, cancel := context.WithTimeout(ctx, o.Time)
	defer cancel()
	cmd := exec.CommandContext(running, o.Command[0], o.Command[1:]...)
	OwnGroup(cmd)
	cmd.Cancel = func() error { KillGroup(cmd); return nil }
	cmd.WaitDelay = 2 * time.Second // what it has started may hold its output open
	out, errOut := &bounded{most: o.Most, full: cancel}, &tail{}
	cmd.Dir, cmd.Env, cmd.Stdin, cmd.Stdout, cmd.Stderr = o.Dir, o.Env, bytes.NewReader(o.In), out, errOut
	if err := cmd.Start(); err != nil {
		return Result{}, err
	}
	err := cmd.Wait()
	KillGroup(cmd) // nothing that it has started goes on
	if ctx.Err() != nil {
		return Result{}, ctx.Err()
	}
	r := Result{Out: out.b, Said: strings.TrimSpace(string(errOut.b)), Code: cmd.ProcessState.ExitCode(), Flood: out.over}
	r.Late = !r.Flood && errors.Is(running.Err(), context.DeadlineExceeded)
	var exit *exec.ExitError
	if errors.As(err, &exit) && r.Code < 0 {
		r.Signal = strings.TrimPrefix(exit.String(), "signal: ")
	} else if err != nil && !errors.As(err, &exit) && !r.Late && !r.Flood && !errors.Is(err, exec.ErrWaitDelay) {
		return r, fmt.Errorf("its output could not be read: %w", err)
	}
	return r, nil
}

// bounded keeps what is written up to a size, and ends the program at more.
type bounded struct {
	b    []byte
	most int
	over bool
	full func()
}

func (w *bounded) Write(p []byte) (int, error) {
	if w.over {
		return len(p), nil
	}
	if len(w.b)+len(p) > w.most {
		w.over = true
		w.full()
		return len(p), nil
	}
	w.b = append(w.b, p...)
	return len(p), nil
}

// tail keeps the end of what is written.
type tail struct{ b []byte }

func (t *tail) Write(p []byte) (int, error) {
	t.b = append(t.b, p...)
	if over := len(t.b) - said; over > 0 {
		t.b = append(t.b[:0], t.b[over:]...)
	}
	return len(p), nil
}
