package session

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"kasbah/core/declare"
	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/core/steps"
	"kasbah/core/survey"
	"kasbah/program"
)

// The stages at which steps run.
const (
	atDeclared    = "declared"
	atProposed    = "proposed"
	atBeforeEnact = "before-enact"
	atEnacted     = "enacted"
	atSurveyed    = "surveyed"
)

// Steps are the estate's steps that run in the environment for the session's wards.
func (s *Session) Steps() []estate.Step {
	return slices.DeleteFunc(slices.Clone(s.Estate.Steps), func(x estate.Step) bool { return !x.For(s.Env, s.Wards) })
}

// stepsAt are those that run at a stage.
func (s *Session) stepsAt(stage string) []estate.Step {
	return slices.DeleteFunc(s.Steps(), func(x estate.Step) bool { return !slices.Contains(x.At, stage) })
}

// runSteps runs the steps of a stage side by side. Each gets the document as JSON. The error is the context's, or
// says that the document could not be made.
func (s *Session) runSteps(ctx context.Context, stage string, document func() (any, error)) ([]steps.Ran,
	[]rules.Finding, error) {
	return s.runThese(ctx, s.stepsAt(stage), stage, document)
}

func (s *Session) runThese(ctx context.Context, list []estate.Step, stage string, document func() (any, error)) (
	ran []steps.Ran, found []rules.Finding, err error) {
	if len(list) == 0 {
		return nil, nil, nil
	}
	doc, err := document()
	if err != nil {
		return nil, nil, err
	}
	body, err := json.Marshal(doc)
	if err != nil {
		return nil, nil, err
	}
	body = append(body, '\n')
	ran = make([]steps.Ran, len(list))
	each := make([][]rules.Finding, len(list))
	var g errgroup.Group
	g.SetLimit(max(4, runtime.GOMAXPROCS(0)))
	for i, x := range list {
		g.Go(func() (err error) {
			ran[i], each[i], err = s.runStep(ctx, x, stage, body)
			return err
		})
	}
	err = g.Wait()
	return ran, slices.Concat(each...), err
}

// runStep runs one step. Whatever is wrong with it is a finding, too.
func (s *Session) runStep(ctx context.Context, x estate.Step, stage string, in []byte) (steps.Ran, []rules.Finding,
	error) {
	began := time.Now()
	r, err := program.Run(ctx, program.Options{Command: x.Run, Dir: s.Estate.Dir, Env: s.stepEnv(x, stage), In: in,
		Time: x.Time, Most: steps.Most})
	if ctx.Err() != nil {
		return steps.Ran{}, nil, ctx.Err()
	}
	ran := steps.Ran{Name: x.Name, At: stage, Level: x.Level, Outcome: steps.Passed,
		Seconds: time.Since(began).Round(time.Millisecond).Seconds()}
	said := ""
	if r.Said != "" {
		lines := strings.Split(r.Said, "\n")
		said = "; it said: " + s.Secrets.Redact(lines[len(lines)-1])
	}
	var found []rules.Finding
	wrong := ""
	switch {
	case err != nil:
		wrong = fmt.Sprintf("the step could not run: %v", err)
	case r.Late:
		wrong = fmt.Sprintf("the step did not end within %s, and was ended", x.Time)
	case r.Flood:
		wrong = fmt.Sprintf("the step wrote more than %d bytes, and was ended", steps.Most)
	case r.Signal != "":
		wrong = "the step was ended by a signal: " + r.Signal + said
	default:
		found, err = steps.Read(r.Out, r.Code)
		if err != nil {
			wrong = err.Error() + said
		} else if r.Code != 0 && len(found) == 0 {
			wrong = fmt.Sprintf("the step ended with code %d and wrote no finding%s", r.Code, said)
		}
	}
	if wrong != "" {
		ran.Outcome, found = steps.Failed, []rules.Finding{{Message: wrong, Position: x.Position}}
	} else if len(found) > 0 {
		ran.Outcome = steps.Found
	}
	ran.Findings = len(found)
	for i := range found {
		f := &found[i]
		if f.Level == "" {
			f.Level = rules.Level(x.Level)
		}
		f.Step, f.Rule, f.At, f.Verdict, f.RuleAt = true, x.Name, rules.Stage(stage), rules.Broken, x.Position
		f.Message, f.Help = s.Secrets.Redact(f.Message), s.Secrets.Redact(f.Help)
		if f.Position.File == "" {
			f.Position = x.Position
		}
	}
	return ran, found, nil
}

// stepEnv is all that a step gets of the environment: what finds programs, what says where it is, and what it names.
func (s *Session) stepEnv(x estate.Step, stage string) []string {
	out := []string{"KASBAH_ENV=" + s.Env, "KASBAH_STAGE=" + stage, "KASBAH_STEP=" + x.Name,
		"KASBAH_ESTATE=" + s.Estate.Name,
		"KASBAH_WARDS=" + strings.Join(s.Wards, " ")}
	names := append([]string{"PATH", "HOME"}, x.Env...)
	if runtime.GOOS == "windows" {
		names = append(names, "SystemRoot", "ComSpec", "PATHEXT", "USERPROFILE", "TEMP", "TMP")
	}
	for _, name := range names {
		if v, is := os.LookupEnv(name); is {
			out = append(out, name+"="+v)
		}
	}
	return out
}

// StepsDeclared runs the steps of the stage declared on an evaluation in which nothing is wrong. What they find is
// among its problems then.
func (s *Session) StepsDeclared(ctx context.Context, e *Evaluation) error {
	if e.Declared == nil || e.Problems.Wrong() > 0 {
		return nil
	}
	ran, found, err := s.runSteps(ctx, atDeclared, func() (any, error) { return s.declaredDocument(ctx, e.Declared), nil })
	if err != nil {
		return err
	}
	e.Steps, e.found = ran, found
	e.Problems = append(e.Problems, rules.Problems(found)...)
	e.Problems.Sort()
	return nil
}

// declaredDocument is what is declared as steps get it.
func (s *Session) declaredDocument(ctx context.Context, d *declare.Declared) *declare.Document {
	from := s.Source(ctx)
	out := declare.NewDocument(s.Estate.Name, d)
	out.Commit, out.Branch, out.Clean = from.Commit, from.Branch, from.Clean
	return out
}

// StepsProposed runs the steps of the stage proposed, and notes in the proposal how they ended and what they found.
func (s *Session) StepsProposed(ctx context.Context, p *propose.Proposal) error {
	ran, found, err := s.runSteps(ctx, atProposed, func() (any, error) { return p, nil })
	if err == nil {
		p.Heard(ran, found)
	}
	return err
}

// StepsBefore runs the steps of the stage before-enact, and notes it likewise. What they found is returned; a
// *enact.Refused is the error where one of it blocks.
func (s *Session) StepsBefore(ctx context.Context, p *propose.Proposal) ([]rules.Finding, error) {
	ran, found, err := s.runSteps(ctx, atBeforeEnact, func() (any, error) { return p, nil })
	if err != nil {
		return nil, err
	}
	p.Heard(ran, found)
	refused := &enact.Refused{}
	for i := range found {
		if found[i].Blocks() {
			refused.Reasons = append(refused.Reasons, found[i].Problem().Error())
		}
	}
	if refused.Reasons != nil {
		return found, refused
	}
	return found, nil
}

// stepsAfter runs the steps of the stage enacted on the result of a run. It and the ledgers note how they ended.
func (s *Session) stepsAfter(ctx context.Context, r *enact.Result) ([]rules.Finding, error) {
	ran, found, err := s.runSteps(ctx, atEnacted, func() (any, error) { return r, nil })
	if err == nil {
		err = r.Ran(ctx, ran)
	}
	return found, err
}

// stepsSurveyed runs the steps of the stage surveyed on a report, which notes it.
func (s *Session) stepsSurveyed(ctx context.Context, r *survey.Report) error {
	ran, found, err := s.runSteps(ctx, atSurveyed, func() (any, error) { return r, nil })
	r.Steps, r.Rules = append(r.Steps, ran...), append(r.Rules, found...)
	return err
}

// TryStep runs one step on the present state, at one of its stages; the first where none is named.
func (s *Session) TryStep(ctx context.Context, name, stage string) (*steps.Document, error) {
	i := slices.IndexFunc(s.Estate.Steps, func(x estate.Step) bool { return x.Name == name })
	if i < 0 {
		var names []string
		for _, x := range s.Estate.Steps {
			names = append(names, x.Name)
		}
		return nil, &problem.UsageError{Message: fmt.Sprintf("no step is called %q", name), Hint: nearest.HintOr(name, names)}
	}
	x := s.Estate.Steps[i]
	if stage == "" {
		stage = x.At[0]
	}
	ran, found, err := s.runThese(ctx, []estate.Step{x}, stage, func() (any, error) { return s.stageDocument(ctx, stage) })
	if err != nil {
		return nil, err
	}
	return steps.NewDocument(s.Env, []estate.Step{x}, ran, found), nil
}

// stageDocument is what a step gets at a stage, as things are now.
func (s *Session) stageDocument(ctx context.Context, stage string) (any, error) {
	switch stage {
	case atDeclared:
		e, err := s.Evaluate(ctx, s.Others())
		if err == nil {
			err = e.Problems.Err()
		}
		if err != nil {
			return nil, err
		}
		return s.declaredDocument(ctx, e.Declared), nil
	case atProposed, atBeforeEnact:
		others := s.Others()
		e, err := s.EvaluateRight(ctx, others)
		if err != nil {
			return nil, err
		}
		states, err := s.States(ctx)
		if err != nil {
			return nil, err
		}
		return s.ProposeFrom(ctx, others, e, states, Request{Rehearse: "never"})
	case atSurveyed:
		states, err := s.States(ctx)
		if err != nil {
			return nil, err
		}
		return s.surveyOf(ctx, states, nil, survey.Asked{})
	}
	return nil, errors.New("a step of the stage enacted gets the result of a run, and there is none to try it with")
}
