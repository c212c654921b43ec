package editor

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go.starlark.net/starlark"

	"kasbah/core/code"
	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/session"
)

// project is one estate that the client works on.
type project struct {
	dir  string
	open func(ctx context.Context, dir, env string, texts map[string][]byte) (*session.Session, error)

	mu    sync.Mutex
	texts map[string][]byte     // of open files, by their path below the folder
	files map[string]*code.File // as they were read last
	moved int                   // how often something besides declarations changed on the disk

	checking sync.Mutex // one check at a time
	known    sync.RWMutex
	views    map[string]*view // by environment
	envs     []string         // that are checked, in their order
	first    chan struct{}    // closed once something is known
	waited   atomic.Bool      // for first, in vain
}

// view is the estate in one environment, as it was last known.
type view struct {
	project *project
	env     string
	session *session.Session
	options declare.Options
	from    string // digest of what the session was opened from
	eval    *session.Evaluation
	globals map[string]starlark.StringDict // by file; the last that were good
	wards   map[string]*declare.Ward       // the last that were good
	recorded
}

// projectOf is the project whose estate's folder is dir or around it; nil when there is none.
func (s *server) projectOf(dir string) *project {
	if real, err := filepath.EvalSymlinks(dir); err == nil {
		dir = real
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for at := dir; ; at = filepath.Dir(at) {
		if p := s.projects[at]; p != nil {
			return p
		}
		if _, err := os.Stat(filepath.Join(at, estate.File)); err == nil {
			p := newProject(at, s.o.Open)
			s.projects[at] = p
			s.poke()
			return p
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

func newProject(dir string, open func(ctx context.Context, dir, env string, texts map[string][]byte) (*session.Session,
	error)) *project {
	return &project{dir: dir, open: open, texts: map[string][]byte{}, files: map[string]*code.File{},
		views: map[string]*view{}, first: make(chan struct{})}
}

func (p *project) close() error {
	var errs []error
	for _, v := range p.views {
		errs = append(errs, v.close())
	}
	return errors.Join(errs...)
}

func (v *view) close() error {
	var err error
	if v.eval != nil {
		err = v.eval.Close()
	}
	return errors.Join(err, v.session.Close())
}

func (p *project) setText(path string, body []byte) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !strings.HasSuffix(path, ".star") && !bytes.Equal(p.texts[path], body) {
		p.moved++
	}
	p.texts[path] = body
}

func (p *project) dropText(path string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.texts, path)
	if !strings.HasSuffix(path, ".star") {
		p.moved++
	}
}

// fileMoved notes that a file on the disk is another one now.
func (p *project) fileMoved(path string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !strings.HasSuffix(path, ".star") {
		p.moved++
	}
}

// body is a text as the client has it, or as it is on the disk.
func (p *project) body(path string) ([]byte, error) {
	p.mu.Lock()
	body, open := p.texts[path]
	p.mu.Unlock()
	if open {
		return body, nil
	}
	return os.ReadFile(filepath.Join(p.dir, filepath.FromSlash(path)))
}

// lines is a text with its lines, for places in it; nil where there is none.
func (p *project) lines(path string) *code.File {
	body, err := p.body(path)
	if err != nil {
		return nil
	}
	return code.Lines(path, body)
}

// file is a text that has been read; nil where there is none.
func (p *project) file(path string) *code.File {
	body, err := p.body(path)
	if err != nil {
		return nil
	}
	p.mu.Lock()
	f := p.files[path]
	p.mu.Unlock()
	if f != nil && bytes.Equal(f.Body, body) {
		return f
	}
	if strings.HasSuffix(path, ".star") {
		f = code.Read(path, body)
	} else {
		f = code.Lines(path, body)
	}
	p.mu.Lock()
	p.files[path] = f
	p.mu.Unlock()
	return f
}

// sources are the paths of all files of declarations below the estate's folder.
func (p *project) sources() []string {
	seen := map[string]bool{}
	var out []string
	add := func(path string) {
		if strings.HasSuffix(path, ".star") && !seen[path] {
			seen[path] = true
			out = append(out, path)
		}
	}
	err := filepath.WalkDir(p.dir, func(at string, d fs.DirEntry, err error) error {
		if err != nil {
			return nil // a folder that cannot be read has no part in this
		}
		if d.IsDir() && at != p.dir && (strings.HasPrefix(d.Name(), ".") || d.Name() == "node_modules") {
			return filepath.SkipDir
		}
		if rel, err := filepath.Rel(p.dir, at); err == nil && !d.IsDir() {
			add(filepath.ToSlash(rel))
		}
		return nil
	})
	if err != nil {
		return nil
	}
	p.mu.Lock()
	for path := range p.texts {
		add(path)
	}
	p.mu.Unlock()
	slices.Sort(out)
	return out
}

// wait waits until something is known of the estate, once and for a while: what is asked later is answered
// with what there is.
func (p *project) wait(ctx context.Context) {
	if p.waited.Load() {
		return
	}
	select {
	case <-p.first:
	case <-ctx.Done():
	case <-time.After(5 * time.Second):
		p.waited.Store(true)
	}
}

// found is what a check found.
type found struct {
	env      string
	problems problem.List
	err      error // the check was ended
}

// check evaluates what has changed, in the chosen environment, the only one, or all, and says what is
// wrong in each.
func (p *project) check(ctx context.Context, env string) []found {
	p.checking.Lock()
	defer p.checking.Unlock()
	p.mu.Lock()
	texts := make(map[string][]byte, len(p.texts))
	for path, body := range p.texts {
		texts[path] = body
	}
	moved := p.moved
	p.mu.Unlock()
	e, err := estate.Read(p.dir, texts)
	if err != nil {
		f := found{env: env}
		f.problems.Add(err)
		return []found{f}
	}
	envs := e.Environments()
	if len(envs) == 0 { // patterns alone: one that they make stands for all
		envs = []string{strings.Replace(e.Patterns()[0], "*", "1", 1)}
	}
	if env != "" {
		if !e.HasEnvironment(env) {
			return []found{{env: env, problems: problem.List{{Level: problem.Wrong, Position: problem.Position{
				File: estate.File}, Message: fmt.Sprintf("no environment is called %q, which kasbah.env of the editor's settings, or -env, chooses",
				env)}}}}
		}
		envs = []string{env}
	}
	from := fmt.Sprintf("%s %d", e.Digest, moved)
	out := make([]found, len(envs))
	views := make([]*view, len(envs))
	var all sync.WaitGroup
	for i, env := range envs {
		all.Go(func() {
			defer func() {
				if x := recover(); x != nil { // an unforeseen text must not end the editor's session
					out[i] = found{env: env, problems: problem.List{{Level: problem.Wrong, Message: fmt.Sprintf("the check failed: %v; "+
						"`kasbah check` tells more", x)}}}
				}
			}()
			views[i], out[i] = p.checkIn(ctx, env, from, texts)
		})
	}
	all.Wait()
	p.known.Lock()
	defer p.known.Unlock()
	p.envs = envs
	for _, v := range views {
		if v != nil {
			p.views[v.env] = v
		}
	}
	select {
	case <-p.first:
	default:
		close(p.first)
	}
	return out
}

// checkIn is check in one environment. It returns the view as it is then; nil where nothing is known.
func (p *project) checkIn(ctx context.Context, env, from string, texts map[string][]byte) (*view, found) {
	out := found{env: env}
	p.known.RLock()
	was := p.views[env]
	p.known.RUnlock()
	v := &view{project: p, env: env, from: from, globals: map[string]starlark.StringDict{}, wards: map[string]*declare.Ward{}}
	if was != nil {
		v.globals, v.wards = was.globals, was.wards
	}
	if was != nil && was.from == from {
		v.session, v.options, v.recorded = was.session, was.options, was.recorded
	} else {
		s, err := p.open(ctx, p.dir, env, texts)
		if err != nil {
			out.problems.Add(err)
			if s != nil {
				out.problems.Add(s.Close())
			}
			return was, out
		}
		v.session = s
		v.recorded = recorded{&ledgers{states: map[string]*ledger.State{}, at: map[string]time.Time{}}}
	}
	others := v.session.Others()
	o, err := v.session.Options(ctx, others)
	if err != nil {
		out.problems.Add(err)
		return v.orElse(was), out
	}
	v.options = o
	var before *session.Evaluation
	if was != nil && was.session == v.session {
		before = was.eval
	}
	e, err := v.session.EvaluateAgain(ctx, others, texts, before)
	if err != nil {
		if out.err = ctx.Err(); out.err == nil {
			out.problems.Add(err)
		}
		return v.orElse(was), out
	}
	v.eval = e
	v.keep()
	if was != nil && was.session != v.session {
		out.problems.Add(was.close())
	}
	out.problems = append(out.problems, e.Problems...)
	if e.Problems.Wrong() == 0 {
		out.problems = append(out.problems, v.session.SecretProblems(ctx, e.Declared, problem.Warning)...)
		out.problems.Sort()
	}
	return v, out
}

// orElse is the view that was there before, where this one has come to nothing.
func (v *view) orElse(was *view) *view {
	if was == nil {
		return v
	}
	if was.session != v.session {
		_ = v.session.Close() // it holds nothing that could be lost
	}
	return was
}

// keep takes over what this evaluation knows, and leaves what only the last ones knew.
func (v *view) keep() {
	globals, wards := map[string]starlark.StringDict{}, map[string]*declare.Ward{}
	for file, names := range v.globals {
		globals[file] = names
	}
	for name, w := range v.wards {
		wards[name] = w
	}
	wrong := map[string]bool{}
	for _, one := range v.eval.Problems {
		if one.Level == problem.Wrong && one.Rule == "" {
			wrong[one.Ward] = true
		}
	}
	for _, w := range v.eval.Declared.Wards {
		if !wrong[w.Name] || wards[w.Name] == nil {
			wards[w.Name] = w
		}
		for file := range w.Files {
			now := v.eval.Declared.Globals(file)
			if now == nil {
				continue
			}
			if before := globals[file]; before != nil && wrong[w.Name] { // it may have ended half-way
				merged := starlark.StringDict{}
				for name, is := range before {
					merged[name] = is
				}
				for name, is := range now {
					merged[name] = is
				}
				now = merged
			}
			globals[file] = now
		}
	}
	v.globals, v.wards = globals, wards
}

// first is the view that answers are given from: the first environment's.
func (p *project) view(ctx context.Context) *view {
	p.wait(ctx)
	p.known.RLock()
	defer p.known.RUnlock()
	for _, env := range p.envs {
		if v := p.views[env]; v != nil && v.eval != nil {
			return v
		}
	}
	return nil
}

// all are the views of the environments that are checked.
func (p *project) all(ctx context.Context) []*view {
	p.wait(ctx)
	p.known.RLock()
	defer p.known.RUnlock()
	var out []*view
	for _, env := range p.envs {
		if v := p.views[env]; v != nil && v.eval != nil {
			out = append(out, v)
		}
	}
	return out
}

const kitPrefix = "kit:"

// onDisk is where a file of the evaluation is: below the estate's folder, or an absolute path for one of a
// kit that is not in it; "" for one that is nowhere.
func (v *view) onDisk(file string) string {
	rest, ok := strings.CutPrefix(file, kitPrefix)
	if !ok {
		return file
	}
	name, inside, _ := strings.Cut(rest, "/")
	k := v.options.Kits[name]
	switch {
	case k == nil:
		return ""
	case k.Folder != "":
		return path.Join(k.Folder, inside)
	case k.Root != nil:
		return filepath.Join(k.Root.Name(), inside)
	}
	return ""
}

// evaluated is what the evaluation calls a file below the estate's folder.
func (v *view) evaluated(file string) string {
	if k := v.kitOf(file); k != nil {
		return kitPrefix + k.Name + "/" + strings.TrimPrefix(file, k.Folder+"/")
	}
	return file
}

// kitOf is the kit whose folder holds a file; nil for none.
func (v *view) kitOf(file string) *declare.Kit {
	for _, k := range v.options.Kits {
		if k.Kit != nil && k.Folder != "" && strings.HasPrefix(file, k.Folder+"/") {
			return k
		}
	}
	return nil
}

// ward is the ward whose folder holds a file; "" for none.
func (v *view) ward(file string) string {
	return v.session.Estate.WardOf(path.Dir(file))
}

// anyWard is the ward of a file, or the first one: for names that all share.
func (v *view) anyWard(file string) string {
	if w := v.ward(file); w != "" {
		return w
	}
	if len(v.session.Estate.Wards) > 0 {
		return v.session.Estate.Wards[0]
	}
	return ""
}

// resources are those of a ward's last good evaluation; of all wards for "".
func (v *view) resources(ward string) []*declare.Resource {
	var out []*declare.Resource
	for _, name := range v.session.Estate.Wards {
		if w := v.wards[name]; w != nil && (ward == "" || ward == name) {
			out = append(out, w.Resources...)
		}
	}
	return out
}
