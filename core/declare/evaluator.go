package declare

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
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
	s        *evaluation
	o        Options
	out      *Ward
	index    *index
	problems problem.List
	declared map[string]*Resource // by address
	drivers  map[string]*driver   // by name
	scopes   []*scope             // the ward, and the instances of kits that are open
	pattern  string               // of names, with all filled in but {name}
	asked    []string             // wards that it read, or tried to
	values   []any                // of out.Reads

	inputsGiven
	modules
	running
	digesting *digesting
}

// inputsGiven are the inputs that a ward may take.
type inputsGiven struct {
	inputs map[string][]given
	used   map[int]bool // those that were taken, by their place in Options.Inputs
}

// modules are what files begin with, and those that were evaluated.
type modules struct {
	names starlark.StringDict // what files of the ward start with
	kits  map[string]starlark.StringDict
	files map[string]*starFile
}

// running are the threads of an evaluation, and the limits that end them.
type running struct {
	limits estate.Limits
	steps  uint64 // left for the ward

	mu      sync.Mutex
	threads []*starlark.Thread // running, outermost first
	stopped string             // why the threads were cancelled, or ""
}

type given struct {
	estate.Input
	at int // in Options.Inputs
}

type starFile struct {
	globals starlark.StringDict
	err     error
	done    bool
}

func newEvaluator(s *evaluation, ward string) (*evaluator, error) {
	o := s.o
	ev := bareEvaluator(s, ward)
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
	files, err := starFiles(ev.o, ev.s.root, ev.out.Name)
	if err != nil {
		ev.problems.Add(err)
		return
	}
	stop := ev.watch(ctx)
	defer stop()
	for _, f := range files {
		ev.file(ctx, source{kind: wardFile, name: f, path: f, root: ev.s.root})
	}
	if !ev.o.Again { // what is evaluated while a person types is never proposed
		ev.digesting.wait(ev.out.Resources)
	}
	if ev.o.Bindings {
		ev.out.Bindings = ev.bindings()
	}
	if !ev.o.Again {
		ev.modules = modules{} // what the code has bound: only an editor looks at it later
	}
}

// file evaluates a file once and returns its globals. A file that failed is
// reported where it failed, and errSeen afterwards.
func (ev *evaluator) file(ctx context.Context, src source) (starlark.StringDict, error) {
	f := ev.files[src.name]
	if f == nil {
		f = &starFile{}
		ev.files[src.name] = f
		f.globals, f.err = ev.evaluate(ctx, src)
		f.done = true
		if f.err != nil {
			ev.report(src.name, f.err)
			f.err = errSeen
		}
	} else if !f.done {
		return nil, fmt.Errorf("%s loads itself, directly or through others", src.name)
	}
	return f.globals, f.err
}

var errSeen = errors.New("what is read here has errors")

// definesOnly is the thread-local name under which a thread says that it
// loads a file which must not declare anything.
const definesOnly = "defines only"

// byteOrderMark is what some editors put at the beginning of a file.
var byteOrderMark = []byte("\ufeff")

func (ev *evaluator) evaluate(ctx context.Context, src source) (starlark.StringDict, error) {
	body, err := ev.read(src)
	if err != nil {
		return nil, err
	}
	f, err := ev.parse(ev.index, src, body)
	if err != nil {
		return nil, err
	}
	if problems := rewrite(f); len(problems) > 0 {
		return nil, problems
	}
	names := ev.predeclared(src)
	program, err := starlark.FileProgram(f, names.Has)
	if err != nil {
		return nil, err
	}
	thread := ev.thread(ctx, src.name)
	thread.Load = func(_ *starlark.Thread, module string) (starlark.StringDict, error) {
		to, err := ev.module(src, module)
		if err != nil {
			return nil, err
		}
		return ev.file(ctx, to)
	}
	if src.kind != wardFile {
		thread.SetLocal(definesOnly, src.name)
	}
	var globals starlark.StringDict
	err = ev.run(thread, func() (err error) {
		globals, err = program.Init(thread, names)
		return err
	})
	globals.Freeze()
	return globals, err
}

// parse parses a file, and adds it to an index.
func (ev *evaluator) parse(ix *index, src source, body []byte) (*syntax.File, error) {
	body = bytes.TrimPrefix(body, byteOrderMark)
	if err := onlyUTF8(src.name, body); err != nil {
		return nil, err
	}
	f, err := fileOptions.Parse(src.name, body, 0)
	if err != nil {
		return nil, err
	}
	ix.add(src.name, f, body, func(module string) string {
		to, err := ev.module(src, module)
		if err != nil {
			return module
		}
		return to.name
	})
	return f, nil
}

var fileOptions = &syntax.FileOptions{Set: true, TopLevelControl: true, GlobalReassign: true}

// contextOf is the local of a thread that holds its context, for built-ins that wait.
const contextOf = "context"

// thread makes a thread within what is left of the ward's steps.
func (ev *evaluator) thread(ctx context.Context, name string) *starlark.Thread {
	thread := &starlark.Thread{
		Name: name,
		Print: func(t *starlark.Thread, msg string) {
			ev.problems = append(ev.problems, &problem.Problem{Level: problem.Note, Ward: ev.out.Name,
				Position: position(callerOf(t)), Message: msg})
		},
	}
	thread.SetLocal(contextOf, ctx)
	thread.SetMaxExecutionSteps(ev.steps)
	thread.OnMaxSteps = func(t *starlark.Thread) {
		t.Cancel(fmt.Sprintf("%s takes more than %d steps", ev.what(), ev.limits.Steps))
	}
	return thread
}

// what is evaluated, in words.
func (ev *evaluator) what() string {
	if ev.out.Name == "" {
		return "the evaluation"
	}
	return "ward " + ev.out.Name
}

// run runs a thread, with the watchdog looking at it.
func (ev *evaluator) run(thread *starlark.Thread, do func() error) error {
	ev.push(thread)
	err := do()
	ev.pop()
	ev.steps -= min(ev.steps, thread.ExecutionSteps())
	if ev.steps == 0 {
		ev.steps = 1 // 0 would mean no limit
	}
	return err
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
			return problem.List{problem.At(pos, "the file holds bytes that are not UTF-8")}
		case r == '\n':
			pos.Line, pos.Column = pos.Line+1, 1
		default:
			pos.Column++
		}
		body = body[size:]
	}
	return nil
}

// read reads a file and notes its digest. Links that lead out of the
// estate, or out of the kit, are refused by the root.
func (ev *evaluator) read(src source) ([]byte, error) {
	body, changed := ev.o.Overlay[src.inEstate()]
	var err error
	if changed && int64(len(body)) > ev.limits.FileBytes {
		err = tooLarge(src, ev.limits.FileBytes)
	} else if !changed {
		body, err = readFile(src, ev.limits.FileBytes)
	}
	if err == nil {
		ev.out.Files[src.name] = fileDigest(body)
	}
	return body, err
}

func readFile(src source, limit int64) ([]byte, error) {
	f, err := src.root.Open(src.path)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", src.name, pathError(err))
	}
	defer f.Close()
	body, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", src.name, pathError(err))
	}
	if int64(len(body)) > limit {
		return nil, tooLarge(src, limit)
	}
	return body, nil
}

func tooLarge(src source, limit int64) error {
	return fmt.Errorf("%s: larger than %d bytes, the limit of [limits] file_bytes", src.name, limit)
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
			if heap > ev.limits.HeapBytes { // memory that is no longer used does not count
				runtime.GC()
				metrics.Read(sample)
				heap = sample[0].Value.Uint64()
			}
			reason := ""
			switch {
			case heap > ev.limits.HeapBytes:
				reason = fmt.Sprintf("%s more than %d bytes of memory", map[bool]string{false: "the ward takes",
					true: "the wards evaluated with it take"}[len(ev.o.Wards) > 1], ev.limits.HeapBytes)
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
		close(quit)
		<-done
		cancel() // last: nothing watches that takes this for an interruption
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
			p.Hint = ev.undefinedHint(file, e.Msg)
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
