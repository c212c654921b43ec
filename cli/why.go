package cli

import (
	"context"

	"kasbah/core/declare"
	"kasbah/core/why"
	"kasbah/exit"
	"kasbah/render"
)

func whyCommand() *command {
	return &command{
		Name: "why", Short: "show where a value comes from: lines, inputs, other resources, the run that set it",
		Args: "ADDRESS[.ATTRIBUTE]", Estate: true,
		Long: "Follows a value back to the lines, inputs, loops, kits and other resources that it comes " +
			"from, and names the run that last changed it.",
		Examples: [2]string{"kasbah why medina.machine/gauge-sallow.size",
			"kasbah why shore:medina.network/coast -json"},
		Takes: exactly(1, "one address, such as medina.network/coast or medina.network/coast.range"),
		Run: func(ctx context.Context, a *app, args []string) error {
			p, states, err := a.openStates(ctx, nil)
			if err != nil {
				return err
			}
			e, err := p.EvaluateMoved(ctx, p.Others())
			if err != nil {
				return err
			}
			if exit.OfProblems(e.Problems) == exit.Failed { // broken rules do not matter here
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
			return show(a, doc, (*render.Out).Why)
		},
	}
}
