package declare

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"sort"
	"strings"

	"go.starlark.net/starlark"

	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Script evaluates files of the estate that declare nothing: rules. They are
// written in the same language within the same bounds, and a pending value
// behaves in them as it does in declarations.
type Script struct {
	ev   *evaluator
	root *os.Root
}

// NewScript prepares an evaluation in which files start with the language's
// own names and the given ones. Close it.
func NewScript(o Options, names starlark.StringDict) (*Script, error) {
	root, err := os.OpenRoot(o.Estate.Dir)
	if err != nil {
		return nil, err
	}
	s := newEvaluation(o, root)
	ev := bareEvaluator(s, "")
	ev.names = ev.library()
	for n, v := range names {
		ev.names[n] = v
	}
	return &Script{ev: ev, root: root}, nil
}

// Close gives back what the script holds.
func (s *Script) Close() error { return s.root.Close() }

// Folder lists the *.star files of a folder of the estate in name order; none
// when there is no such folder.
func (s *Script) Folder(dir string) ([]string, error) {
	entries, err := fs.ReadDir(s.root.FS(), dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", dir, pathError(err))
	}
	var out []string
	for _, e := range entries {
		if strings.HasSuffix(e.Name(), ".star") && !e.IsDir() {
			out = append(out, path.Join(dir, e.Name()))
		}
	}
	sort.Strings(out)
	return out, nil
}

// File evaluates a file of the estate, once.
func (s *Script) File(ctx context.Context, name string) problem.List {
	before := len(s.ev.problems)
	stop := s.ev.watch(ctx)
	defer stop()
	if _, err := s.ev.file(ctx, source{kind: scriptFile, name: name, path: name, root: s.root}); err != nil &&
		len(s.ev.problems) == before {
		s.ev.wrong(problem.Position{File: name}, "%v", err)
	}
	return append(problem.List(nil), s.ev.problems[before:]...)
}

// Files are the digests of what was read, as in Ward.Files.
func (s *Script) Files() map[string]string { return s.ev.out.Files }

// At is where the call that runs on a thread was written.
func (s *Script) At(thread *starlark.Thread) problem.Position { return s.ev.caller(thread) }

// Value turns a value into one of the language.
func (s *Script) Value(v any) (starlark.Value, error) { return s.ev.fromValue(v) }

// Plain turns a value of the language into a plain one.
func (s *Script) Plain(v starlark.Value) (any, error) {
	return converter{levels: s.ev.limits.Levels}.value(v, nil, nil)
}

// Type is a type by its name with the driver; nil when there is none.
func (s *Script) Type(full string) *schema.Type {
	drv, name, _ := strings.Cut(full, ".")
	if c := s.ev.o.Catalogs[drv]; c != nil {
		return c.Types[name]
	}
	return nil
}

// Unknown is a value that is pending, from nowhere in particular.
func (s *Script) Unknown(why string) starlark.Value {
	return &pending{ev: s.ev, p: value.NewRef("a value"), why: why}
}

// Watch bounds the time of the calls until its result is called.
func (s *Script) Watch(ctx context.Context) (stop func()) { return s.ev.watch(ctx) }

// Call calls a function of the script. When it had to look at a pending
// value, pendingOn says at which and why, and err is nil.
func (s *Script) Call(fn starlark.Callable, args ...starlark.Value) (v starlark.Value, pendingOn string, err error) {
	thread := s.ev.thread(context.Background(), fn.Name()) // what scripts call never waits
	err = s.ev.run(thread, func() (err error) {
		v, err = starlark.Call(thread, fn, args, nil)
		return err
	})
	if err == nil {
		return v, "", nil
	}
	var pe *pendingError
	if errors.As(err, &pe) {
		return nil, fmt.Sprintf("%s is not known yet", pe.p.p), nil
	}
	var eval *starlark.EvalError
	if !errors.As(err, &eval) {
		return nil, "", err
	}
	msg := strings.TrimPrefix(eval.Msg, "Starlark computation cancelled: ")
	// the interpreter's own words
	if strings.Contains(msg, pendingType) || strings.Contains(msg, "which is not known yet") {
		return nil, msg, nil
	}
	for i := len(eval.CallStack) - 1; i >= 0; i-- {
		if p := eval.CallStack[i].Pos; p.IsValid() && p.Line > 0 && p.Filename() != "<builtin>" {
			return nil, "", problem.At(position(p), "%s", msg)
		}
	}
	return nil, "", errors.New(msg)
}

// bareEvaluator is an evaluator that knows no inputs and no drivers yet.
func bareEvaluator(s *evaluation, ward string) *evaluator {
	return &evaluator{
		pattern: namePattern(s.o.Estate, s.o.Env, ward),
		s:       s, o: s.o, index: newIndex(),
		out: &Ward{Name: ward, Published: map[string]*Published{}, Taken: map[string]*Taken{},
			Secrets: map[string]*Secret{}, Files: map[string]string{}},
		declared: map[string]*Resource{}, drivers: map[string]*driver{},
		scopes:      []*scope{{opened: map[string]problem.Position{}}},
		inputsGiven: inputsGiven{inputs: map[string][]given{}, used: map[int]bool{}},
		modules:     modules{files: map[string]*starFile{}, kits: map[string]starlark.StringDict{}},
		running:     running{limits: s.o.Estate.Limits, steps: s.o.Estate.Limits.Steps}, digesting: newDigesting(),
	}
}
