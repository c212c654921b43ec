package cli

import (
	"context"

	"kasbah/core/declare"
	"kasbah/core/problem"
	"kasbah/core/why"
)

func whyCommand() *command {
	return &command{
		name: "why", line: "show where a value comes from: lines, inputs, other resources, the run that set it", args: "ADDRESS[.ATTRIBUTE]", common: true,
		examples: [2]string{"kasbah why medina.machine/gauge-sallow.size", "kasbah why shore:medina.network/coast -json"},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return problem.Usage("why wants one address, such as medina.network/coast or medina.network/coast.range")
			}
			p, states, err := a.openStates(ctx, nil)
			if err != nil {
				return err
			}
			e, err := p.Evaluate(ctx, p.Others())
			if err != nil {
				return err
			}
			if problemsCode(e.Problems) == exitFailed { // broken rules do not matter here
				return e.Problems
			}
			at, err := why.Find(args[0], e.Declared, states)
			if err != nil {
				return err
			}
			doc, err := at.Explain(e.Declared, states[at.Ward], p.Type(declare.TypeOf(at.Address)))
			if err != nil {
				return err
			}
			if doc.Last, err = p.LastChange(ctx, at, states[at.Ward]); err != nil {
				return err
			}
			if a.json {
				return a.document(doc)
			}
			a.out().Why(doc)
			return nil
		},
	}
}
