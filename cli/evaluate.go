package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"time"

	"kasbah/core/declare"
	"kasbah/core/graph"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/rules"
	"kasbah/core/value"
	"kasbah/kits"
)

// evaluate evaluates the project's wards and checks their graph.
func (a *app) evaluate(ctx context.Context, p *project) (*declare.Declared, *graph.Graph, problem.List, error) {
	o, err := a.declareOptions(ctx, p)
	if err != nil {
		return nil, nil, nil, err
	}
	d, problems := declare.Evaluate(ctx, o)
	g, cycles := graph.OfDeclared(d)
	problems = append(problems, cycles...)
	said, err := p.judgeDeclared(ctx, o, d, problems.Wrong() == 0)
	if err != nil {
		return nil, nil, nil, err
	}
	problems = append(problems, said...)
	problems.Sort()
	return d, g, problems, ctx.Err()
}

// rulesFor loads the rules for commands that evaluate no declarations.
func (a *app) rulesFor(ctx context.Context, p *project) error {
	if p.rules != nil {
		return nil
	}
	o, err := a.declareOptions(ctx, p)
	if err != nil {
		return err
	}
	return p.loadRules(ctx, o).Err()
}

// loadRules reads the estate's rules, once.
func (p *project) loadRules(ctx context.Context, o declare.Options) problem.List {
	if p.rules == nil {
		p.rules, p.ruleProblems = rules.Load(ctx, o, time.Now())
	}
	return p.ruleProblems
}

// judgeDeclared holds what is declared against the rules. What was not wholly
// evaluated is not judged.
func (p *project) judgeDeclared(ctx context.Context, o declare.Options, d *declare.Declared, whole bool) (problem.List, error) {
	problems := p.loadRules(ctx, o)
	if problems.Wrong() > 0 || !whole {
		return problems, nil
	}
	subjects := rules.OfDeclared(d)
	problems = append(problems, p.rules.Excuses(subjects)...)
	report, err := p.rules.Judge(ctx, rules.Declared, subjects, value.Map{"inputs": rules.InputsOf(d)})
	if err != nil {
		return nil, err
	}
	p.found, p.judged = report.Findings, report
	return append(problems, report.Problems()...), nil
}

// declareOptions gathers what an evaluation needs, the estate's kits among it.
func (a *app) declareOptions(ctx context.Context, p *project) (declare.Options, error) {
	if p.inputs == nil { // once: what was read is what is evaluated
		inputs, err := a.givenInputs(p)
		if err != nil {
			return declare.Options{}, err
		}
		p.inputs = append([]declare.Input{}, inputs...)
	}
	if p.kits == nil {
		opener, err := kits.New(p.estate.Dir)
		if err != nil {
			return declare.Options{}, err
		}
		p.kits = opener.Open(ctx, p.estate.Kits(p.env))
	}
	return declare.Options{
		Estate: p.estate, Env: p.env, Wards: p.wards, Catalogs: p.catalogs, Kinds: p.kinds, Kits: p.kits, Inputs: p.inputs,
		Published: func(ward string) (value.Map, error) {
			s, err := p.otherState(ctx, ward)
			if err != nil {
				return nil, err
			}
			out := value.Map{}
			maps.Copy(out, value.Map(s.Published))
			for name, v := range s.Offered { // as it was declared: what was pending is pending again
				out[name] = v
			}
			return out, nil
		},
		Overrun: func(words string) {
			fmt.Fprintln(a.errors, words)
			os.Exit(exitFailed)
		},
	}, nil
}

// otherState is what the ledger of a ward says that was not asked for.
func (p *project) otherState(ctx context.Context, ward string) (*ledger.State, error) {
	if s := p.outside[ward]; s != nil {
		return s, nil
	}
	l := p.ledgers[ward]
	if l == nil {
		return nil, fmt.Errorf("no ward is called %q", ward)
	}
	s, err := l.Load(ctx)
	if err == nil {
		p.outside[ward] = s
	}
	return s, err
}

// declared is evaluate for commands that cannot go on with problems. Notes
// and warnings go to people.
func (a *app) declared(ctx context.Context, p *project) (*declare.Declared, *graph.Graph, error) {
	d, g, problems, err := a.evaluate(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	if problems.Wrong() > 0 {
		return nil, nil, problems
	}
	p.remarks = nil
	for _, one := range problems {
		if one.Standing == "" { // how rules stand is part of what follows
			p.remarks = append(p.remarks, one)
		}
	}
	a.tellRemarks(p.remarks)
	return d, g, nil
}

// tellRemarks tells what is worth a look in declarations that are not wrong.
func (a *app) tellRemarks(list problem.List) {
	for _, one := range list {
		if !a.quiet {
			a.errs().Problem(one)
		}
	}
}
