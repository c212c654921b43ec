package session

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/graph"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/rules"
	"kasbah/core/steps"
	"kasbah/core/value"
	"kasbah/kits"
)

// Evaluation is what the declarations say, and how they stand to the house rules.
type Evaluation struct {
	Declared *declare.Declared
	Graph    *graph.Graph
	Problems problem.List  // of declarations, graph and rules, in the files' order
	Judged   *rules.Report // nil where declarations or rules are wrong

	Steps []steps.Ran     // that ran on what is declared
	found []rules.Finding // and what they found

	loaded loadedRules
	last   *rules.Report   // what the rules said when they judged last
	moved  map[string]bool // wards that were evaluated again since
}

// Findings are what rules and steps found.
func (e *Evaluation) Findings() []rules.Finding {
	if e.Judged == nil {
		return e.found
	}
	return append(slices.Clone(e.Judged.Findings), e.found...)
}

// Remarks are what is worth a look in declarations that are not wrong. How rules stand is
// left out: a proposal tells that.
func (e *Evaluation) Remarks() problem.List {
	var out problem.List
	for _, one := range e.Problems {
		if one.Standing == "" && !strings.HasPrefix(one.Rule, rules.StepPrefix) { // the proposal tells those
			out = append(out, one)
		}
	}
	return out
}

// Options are what an evaluation needs, with the estate's kits.
func (s *Session) Options(ctx context.Context, others *Others) (declare.Options, error) {
	o, err := s.options.get(func() (declare.Options, error) { return s.readOptions(ctx) })
	o.Published = others.published(ctx)
	return o, err
}

// readOptions reads inputs and opens kits.
func (s *Session) readOptions(ctx context.Context) (declare.Options, error) {
	o := declare.Options{
		Estate: s.Estate, Env: s.Env, Wards: s.Wards, Catalogs: s.Catalogs, Kinds: s.kinds, Overrun: s.config.Overrun, Overlay: s.config.Overlay,
		Kits: map[string]*declare.Kit{},
	}
	if s.alone {
		return o, nil
	}
	var err error
	if o.Inputs, err = s.givenInputs(); err != nil {
		return o, err
	}
	opener, err := kits.New(s.Estate.Dir)
	if err != nil {
		return o, err
	}
	o.Kits = opener.Open(ctx, s.Estate.Kits(s.Env))
	s.CloseLater(func() error { kits.Close(o.Kits); return nil })
	return o, nil
}

// Evaluate evaluates the session's wards, checks their graph and holds them against the house
// rules. What other wards publish is read from others.
func (s *Session) Evaluate(ctx context.Context, others *Others) (*Evaluation, error) {
	o, err := s.Options(ctx, others)
	if err != nil {
		return nil, err
	}
	return s.evaluate(ctx, o, s.loadRules(ctx, o), nil)
}

// EvaluateMoved is Evaluate in which what is remembered of the last evaluation stands for wards that can only declare
// the same.
func (s *Session) EvaluateMoved(ctx context.Context, others *Others) (*Evaluation, error) {
	o, err := s.Options(ctx, others)
	if err != nil || o.Overlay != nil {
		return s.Evaluate(ctx, others)
	}
	kept := &declarations{s: s}
	o.Memory = kept
	defer s.CloseLater(func() error { kept.work.Wait(); return nil })
	e, err := s.evaluate(ctx, o, s.loadRules(ctx, o), nil)
	if err != nil {
		return nil, err
	}
	if n := len(slices.DeleteFunc(slices.Clone(s.Wards), func(w string) bool { return !e.Declared.Kept[w] })); n > 0 {
		s.detail("%d of %d wards declare what they did the last time; those were not evaluated.", n, len(s.Wards))
	}
	return e, nil
}

// EvaluateAgain is Evaluate with texts in place of files, by their path below the estate's folder.
// Wards and rules that are as they were in was, an evaluation of the same session by this method, are
// taken over from it; was may be nil.
func (s *Session) EvaluateAgain(ctx context.Context, others *Others, texts map[string][]byte, was *Evaluation) (
	*Evaluation, error) {
	o, err := s.Options(ctx, others)
	if err != nil {
		return nil, err
	}
	o.Overlay, o.Again = texts, true
	if was != nil {
		if same, err := o.Same(was.loaded.set.Files()); same && err == nil && was.loaded.problems.Wrong() == 0 {
			return s.evaluate(ctx, o, was.loaded, was)
		}
	}
	set, problems := rules.Load(ctx, o, time.Now())
	e, err := s.evaluate(ctx, o, loadedRules{set, problems}, was)
	if err != nil {
		return nil, errors.Join(err, set.Close())
	}
	if was != nil {
		err = was.loaded.set.Close()
	}
	return e, err
}

// Close gives back what an evaluation by EvaluateAgain holds; was of a further one counts as closed.
func (e *Evaluation) Close() error { return e.loaded.set.Close() }

// EvaluateWith is Evaluate with other options: other kits, say. Rules are read again.
func (s *Session) EvaluateWith(ctx context.Context, o declare.Options) (*Evaluation, error) {
	set, problems := rules.Load(ctx, o, time.Now())
	s.CloseLater(set.Close)
	return s.evaluate(ctx, o, loadedRules{set, problems}, nil)
}

// EvaluateRight is Evaluate for work that cannot go on with problems, and that needs the
// secrets which the declarations ask for.
func (s *Session) EvaluateRight(ctx context.Context, others *Others) (*Evaluation, error) {
	e, err := s.Evaluate(ctx, others)
	return s.right(ctx, e, err)
}

func (s *Session) right(ctx context.Context, e *Evaluation, err error) (*Evaluation, error) {
	if err != nil {
		return nil, err
	}
	if err := e.Problems.Err(); err != nil {
		return nil, err
	}
	return e, s.SecretProblems(ctx, e.Declared, problem.Wrong).Err()
}

func (s *Session) evaluate(ctx context.Context, o declare.Options, loaded loadedRules, was *Evaluation) (*Evaluation,
	error) {
	var d *declare.Declared
	var problems problem.List
	if was == nil {
		d, problems = declare.Evaluate(ctx, o)
	} else {
		d, problems = was.Declared.Again(ctx, o)
	}
	var subjects []*rules.Subject
	var beside sync.WaitGroup
	beside.Go(func() { subjects = loaded.set.Subjects(d) })
	g, cycles := graph.OfDeclared(d)
	problems = append(problems, cycles...)
	beside.Wait()
	e := &Evaluation{Declared: d, Graph: g, loaded: loaded, moved: map[string]bool{}}
	same := map[string]bool{}
	for _, ward := range s.Wards {
		same[ward] = was != nil && d.Kept[ward] && !was.moved[ward]
		e.moved[ward] = !same[ward]
	}
	if was != nil && loaded.set == was.loaded.set {
		e.last = was.last
	}
	if problems.Wrong() == 0 && len(s.Estate.Others()) > 0 && !o.Again {
		circles, err := s.circles(ctx, s.Others(), d)
		if err != nil {
			return nil, err
		}
		problems = append(problems, circles...)
	}
	whole := problems.Wrong() == 0
	problems = append(problems, loaded.problems...)
	if whole && loaded.problems.Wrong() == 0 {
		problems = append(problems, loaded.set.Excuses(subjects)...)
		whole := value.Map{"inputs": rules.InputsOf(d)}
		if loaded.set.JudgesWhole(rules.Declared) {
			from := s.Source(ctx)
			whole["commit"], whole["branch"], whole["clean"] = from.Commit, from.Branch, from.Clean
		}
		report, err := loaded.set.JudgeAgain(ctx, rules.Declared, subjects, whole, e.last, same)
		if err != nil {
			return nil, err
		}
		e.Judged, e.last, e.moved = report, report, nil
		problems = append(problems, report.Problems()...)
	}
	problems.Sort()
	e.Problems = problems
	return e, ctx.Err()
}

// loadedRules are the estate's rules, and what is wrong with them.
type loadedRules struct {
	set      *rules.Set
	problems problem.List
}

func (s *Session) loadRules(ctx context.Context, o declare.Options) loadedRules {
	loaded, _ := s.loaded.get(func() (loadedRules, error) { // its problems are the only errors
		set, problems := rules.Load(ctx, o, time.Now())
		s.CloseLater(set.Close)
		return loadedRules{set, problems}, nil
	})
	return loaded
}

// Rules are the estate's rules. It is an error when one of them cannot be read.
func (s *Session) Rules(ctx context.Context) (*rules.Set, error) {
	o, err := s.Options(ctx, s.Others())
	if err != nil {
		return nil, err
	}
	loaded := s.loadRules(ctx, o)
	return loaded.set, loaded.problems.Err()
}

// Others reads the ledgers of wards that a proposal only reads, each once.
type Others struct {
	s      *Session
	mu     sync.Mutex
	states map[string]*ledger.State // those of other estates as `harbour:shore`
}

// Others reads the estate's other wards again.
func (s *Session) Others() *Others {
	return &Others{s: s, states: map[string]*ledger.State{}}
}

// State is what the ledger of a ward says.
func (o *Others) State(ctx context.Context, ward string) (*ledger.State, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if s := o.states[ward]; s != nil {
		return s, nil
	}
	var l *ledger.Ledger
	var err error
	if other, name := estate.SplitEstate(ward); other != "" {
		l, err = o.s.otherLedger(other, name)
	} else if l = o.s.Ledgers[ward]; l == nil {
		err = fmt.Errorf("no ward is called %q", ward)
	}
	if err != nil {
		return nil, err
	}
	s, err := l.Load(ctx)
	if err == nil {
		o.states[ward] = s
	}
	return s, err
}

// Heads are the newest entries' hashes of the ledgers that were read, by ward.
func (o *Others) Heads() map[string]string {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := map[string]string{}
	for ward, s := range o.states {
		out[ward] = s.Hash
	}
	return out
}

// published answers with what a ward has published.
func (o *Others) published(ctx context.Context) func(ward string) (value.Map, error) {
	return func(ward string) (value.Map, error) {
		s, err := o.State(ctx, ward)
		if err != nil {
			return nil, o.s.whoOpens(ward, err)
		}
		out := value.Map{}
		maps.Copy(out, value.Map(s.Published))
		if other, _ := estate.SplitEstate(ward); other != "" { // what is pending there is so in terms of that estate
			return out, nil
		}
		for name, v := range s.Offered { // as it was declared: what was pending is pending again
			out[name] = v
		}
		return out, nil
	}
}

// RuleNames are the house rules that judge one resource each.
func (e *Evaluation) RuleNames() []string {
	var out []string
	for _, r := range e.loaded.set.Rules {
		if !r.Whole() {
			out = append(out, r.Name)
		}
	}
	return out
}
