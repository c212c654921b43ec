package declare

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"runtime/metrics"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"go.starlark.net/resolve"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"kasbah/core/estate"
	"kasbah/core/problem"
)

// evaluator evaluates one ward.
type evaluator struct {
	o        Options
	limits   estate.Limits
	root     *os.Root
	out      *Ward
	index    *index
	problems problem.List
	declared map[string]*Resource // by address
	inputs   map[string][]given
	used     map[int]bool // of Options.Inputs

	predeclared starlark.StringDict
	files       map[string]*starFile
	steps       uint64 // left for the ward

	mu      sync.Mutex
	threads []*starlark.Thread // running, outermost first
	stopped string             // why the threads were cancelled, or ""
}

type given struct {
	Input
	at int // in Options.Inputs
}

type starFile struct {
	globals starlark.StringDict
	err     error
	done    bool
}

func newEvaluator(o Options, root *os.Root, ward string) (*evaluator, error) {
	ev := &evaluator{
		o: o, limits: o.Estate.Limits, root: root, index: newIndex(),
		out:      &Ward{Name: ward, Published: map[string]*Published{}, Taken: map[string]*Taken{}, Files: map[string]string{}},
		declared: map[string]*Resource{}, inputs: map[string][]given{}, used: map[int]bool{}, files: map[string]*starFile{},
		steps: o.Estate.Limits.Steps,
	}
	for i, in := range o.Inputs {
		if in.Ward == "" || in.Ward == ward {
			ev.inputs[in.Name] = append(ev.inputs[in.Name], given{in, i})
		}
	}
	if err := ev.predeclare(); err != nil {
		return nil, err
	}
	return ev, nil
}

// ward evaluates every file of the ward and collects the problems.
func (ev *evaluator) ward(ctx context.Context) {
	files, err := starFiles(ev.o.Estate, ev.root, ev.out.Name)
	if err != nil {
		ev.problems.Add(err)
		return
	}
	stop := ev.watch(ctx)
	defer stop()
	for _, f := range files {
		ev.file(f)
	}
}

// file evaluates a file once and returns its globals. A file that failed is
// reported where it failed, and errSeen afterwards.
func (ev *evaluator) file(name string) (starlark.StringDict, error) {
	f := ev.files[name]
	if f == nil {
		f = &starFile{}
		ev.files[name] = f
		f.globals, f.err = ev.evaluate(name)
		f.done = true
		if f.err != nil {
			ev.report(name, f.err)
			f.err = errSeen
		}
	} else if !f.done {
		return nil, fmt.Errorf("%s loads itself, directly or through others", name)
	}
	return f.globals, f.err
}

var errSeen = errors.New("the file that is loaded has errors")

func (ev *evaluator) evaluate(name string) (starlark.StringDict, error) {
	body, err := ev.read(name)
	if err != nil {
		return nil, err
	}
	if err := onlyUTF8(name, body); err != nil {
		return nil, err
	}
	opts := &syntax.FileOptions{Set: true, TopLevelControl: true, GlobalReassign: true}
	f, err := opts.Parse(name, body, 0)
	if err != nil {
		return nil, err
	}
	ev.index.add(name, f, func(module string) string { return path.Join(path.Dir(name), module) })
	if problems := rewrite(f); len(problems) > 0 {
		return nil, problems
	}
	program, err := starlark.FileProgram(f, ev.predeclared.Has)
	if err != nil {
		return nil, err
	}
	thread := &starlark.Thread{
		Name: name,
		Load: func(_ *starlark.Thread, module string) (starlark.StringDict, error) { return ev.load(name, module) },
		Print: func(t *starlark.Thread, msg string) {
			ev.problems = append(ev.problems, &problem.Problem{Level: problem.Note, Ward: ev.out.Name, Position: position(t.CallFrame(1).Pos), Message: msg})
		},
	}
	thread.SetMaxExecutionSteps(ev.steps)
	thread.OnMaxSteps = func(t *starlark.Thread) {
		t.Cancel(fmt.Sprintf("the ward takes more than %d steps", ev.limits.Steps))
	}
	ev.push(thread)
	globals, err := program.Init(thread, ev.predeclared)
	ev.pop()
	ev.steps -= min(ev.steps, thread.ExecutionSteps())
	if ev.steps == 0 {
		ev.steps = 1 // 0 would mean no limit
	}
	globals.Freeze()
	return globals, err
}

// onlyUTF8 reports the first byte of a file that is no UTF-8. The language's
// own scanner would put another character in its place.
func onlyUTF8(name string, body []byte) error {
	if utf8.Valid(body) {
		return nil
	}
	pos := problem.Position{File: name, Line: 1, Column: 1}
	for len(body) > 0 {
		r, size := utf8.DecodeRune(body)
		switch {
		case r == utf8.RuneError && size == 1:
			return problem.List{problem.At(pos, "the file holds bytes that are no UTF-8")}
		case r == '\n':
			pos.Line, pos.Column = pos.Line+1, 1
		default:
			pos.Column++
		}
		body = body[size:]
	}
	return nil
}

// load answers a load statement: another file of the ward.
func (ev *evaluator) load(from, module string) (starlark.StringDict, error) {
	switch {
	case strings.HasPrefix(module, "kit:"):
		return nil, errors.New("this version of kasbah does not do kits yet")
	case strings.HasPrefix(module, "/"):
		return nil, errors.New("this version of kasbah loads files of the ward only")
	case !strings.HasSuffix(module, ".star"):
		return nil, fmt.Errorf("load wants a *.star file, not %q", module)
	}
	name := path.Join(path.Dir(from), module)
	if path.Dir(name) != ev.out.Name {
		return nil, fmt.Errorf("%q is not a file of the ward %s", module, ev.out.Name)
	}
	if _, err := ev.root.Stat(name); err != nil {
		return nil, fmt.Errorf("%s: %w", name, pathError(err))
	}
	return ev.file(name)
}

// read reads a file of the estate and notes its digest. Links that lead out
// of the estate are refused by the root.
func (ev *evaluator) read(name string) ([]byte, error) {
	f, err := ev.root.Open(name)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, pathError(err))
	}
	defer f.Close()
	body, err := io.ReadAll(io.LimitReader(f, ev.limits.FileBytes+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, pathError(err))
	}
	if int64(len(body)) > ev.limits.FileBytes {
		return nil, fmt.Errorf("%s: larger than %d bytes, the limit of [limits] file_bytes", name, ev.limits.FileBytes)
	}
	ev.out.Files[name] = fmt.Sprintf("%x", sha256.Sum256(body))
	return body, nil
}

func (ev *evaluator) push(t *starlark.Thread) {
	ev.mu.Lock()
	defer ev.mu.Unlock()
	ev.threads = append(ev.threads, t)
	if ev.stopped != "" {
		t.Cancel(ev.stopped)
	}
}

func (ev *evaluator) pop() {
	ev.mu.Lock()
	defer ev.mu.Unlock()
	ev.threads = ev.threads[:len(ev.threads)-1]
}

// cancel stops the innermost thread at its next instruction.
func (ev *evaluator) cancel(reason string) {
	ev.mu.Lock()
	defer ev.mu.Unlock()
	if n := len(ev.threads); n > 0 {
		ev.threads[n-1].Cancel(reason)
	}
}

// watch bounds time and memory. A thread stops at its next instruction; a
// built-in that goes on for seconds after that ends in Options.Overrun.
func (ev *evaluator) watch(ctx context.Context) (stop func()) {
	ctx, cancel := context.WithTimeout(ctx, time.Duration(ev.limits.Seconds)*time.Second)
	quit, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
		var since time.Time
		for {
			select {
			case <-quit:
				return
			case <-tick.C:
			}
			metrics.Read(sample)
			heap := sample[0].Value.Uint64()
			reason := ""
			switch {
			case heap > ev.limits.HeapBytes:
				reason = fmt.Sprintf("the ward takes more than %d bytes of memory", ev.limits.HeapBytes)
			case errors.Is(ctx.Err(), context.DeadlineExceeded):
				reason = fmt.Sprintf("the ward takes more than %d s", ev.limits.Seconds)
			case ctx.Err() != nil:
				reason = "interrupted"
			default:
				continue
			}
			ev.stop(reason)
			if since.IsZero() {
				since = time.Now()
			}
			if ev.o.Overrun != nil && (time.Since(since) > 3*time.Second || heap > 2*ev.limits.HeapBytes) {
				ev.o.Overrun(fmt.Sprintf("%s: %s, and could not be stopped otherwise", ev.out.Name, reason))
				return
			}
		}
	}()
	return func() {
		cancel()
		close(quit)
		<-done
	}
}

func (ev *evaluator) stop(reason string) {
	ev.mu.Lock()
	defer ev.mu.Unlock()
	ev.stopped = reason
	for _, t := range ev.threads {
		t.Cancel(reason)
	}
}

// report turns the error that ended a file into problems.
func (ev *evaluator) report(file string, err error) {
	rest := func(pos problem.Position) {
		ev.problems = append(ev.problems, &problem.Problem{
			Level: problem.Note, Ward: ev.out.Name, Position: pos, Message: "the rest of " + file + " was not checked",
		})
	}
	var list problem.List
	var syn syntax.Error
	var res resolve.ErrorList
	var eval *starlark.EvalError
	switch {
	case errors.As(err, &list):
		for _, p := range list {
			p.Ward = ev.out.Name
		}
		ev.problems = append(ev.problems, list...)
		rest(list[len(list)-1].Position)
	case errors.As(err, &syn):
		ev.wrong(position(syn.Pos), "%s", syn.Msg)
		rest(position(syn.Pos))
	case errors.As(err, &res):
		for _, e := range res {
			p := ev.wrong(position(e.Pos), "%s", e.Msg)
			p.Hint = ev.undefinedHint(e.Msg)
		}
		rest(position(res[0].Pos))
	case errors.As(err, &eval):
		rest(ev.reportEval(eval))
	default:
		ev.wrong(problem.Position{File: file}, "%s", strings.TrimPrefix(err.Error(), file+": "))
	}
}

func (ev *evaluator) reportEval(eval *starlark.EvalError) problem.Position {
	var pos problem.Position
	var ways []string
	for i := len(eval.CallStack) - 1; i >= 0; i-- { // innermost first
		p := eval.CallStack[i].Pos
		if !p.IsValid() || p.Line == 0 || p.Filename() == "<builtin>" {
			continue
		}
		if pos.File == "" {
			pos = position(p)
		} else {
			ways = append(ways, "by "+position(p).Short())
		}
	}
	var pe *pendingError
	if errors.As(eval, &pe) && pe.p.missing || strings.Contains(eval.Msg, missingType) {
		return pos // the missing input is reported where it is declared
	}
	if errors.Is(eval, errSeen) {
		return pos
	}
	msg := strings.TrimPrefix(eval.Msg, "Starlark computation cancelled: ")
	told := strings.Contains(msg, pendingType) // the interpreter's own words
	if told && pe == nil {
		msg += ": that value is not known yet"
	}
	p := ev.wrong(pos, "%s", msg)
	p.Via = ways
	if pe != nil || told {
		p.Hint = "hand it on as it is, or decide by an input or by something that the code gives"
	}
	return pos
}

func (ev *evaluator) wrong(pos problem.Position, format string, args ...any) *problem.Problem {
	p := problem.At(pos, format, args...)
	p.Ward = ev.out.Name
	ev.problems = append(ev.problems, p)
	return p
}
