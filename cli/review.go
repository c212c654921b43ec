package cli

import (
	"context"
	"flag"
	"time"

	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/render"
	"kasbah/session"
)

func reviewCommand() *command {
	var only flags.List
	var action string
	form := "text"
	var against, summary, full, exitCode bool
	var fit int
	return &command{
		Name: "review", Short: "show a kept proposal again, in part or for a pull request", Args: "FILE | -against OLD NEW",
		Long: "Shows a proposal that propose -o kept, after checking that it shows what it does. -action " +
			"and -only show a part of it; -form markdown -fit 60000 makes a comment for a pull request. -against " +
			"says what one proposal would do that another one, which was reviewed, would not.",
		Examples: [2]string{"kasbah review change.json -action drop,swap",
			"kasbah review change.json -form html > change.html"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var(&only, "only", "show addresses that match this `pattern`; repeatable")
			fs.StringVar(&action, "action", "", "show these `actions`, with commas: new, edit, swap, drop")
			fs.BoolVar(&summary, "summary", false, "show the summary alone")
			fs.BoolVar(&full, "full", false, "list every action, even identical ones")
			fs.Var(flags.Choice(&form, "text", "markdown", "html", "json"), "form", "the `form`: text, markdown, html or json")
			fs.BoolVar(&against, "against", false, "compare what two files would do: the reviewed one and the new one")
			fs.BoolVar(&exitCode, "exit-code", false, "with -against: end with 3 when something is different")
			fs.IntVar(&fit, "fit", 0, "shorten Markdown to at most this many `bytes`; harmless actions go first")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if fit < 0 || fit > 0 && form != "markdown" {
				return problem.Usage("-fit is a number of bytes, and goes with -form markdown")
			}
			switch {
			case against && len(args) == 2:
				return a.against(ctx, args[0], args[1], exitCode)
			case against, len(args) != 1:
				return problem.Usage("kasbah review needs one file, which propose -o has kept, or -against and two")
			}
			kinds, err := propose.ReadKinds(action)
			if err != nil {
				return err
			}
			k, _, err := a.openProposal(ctx, args[0])
			if err != nil {
				return err
			}
			p := k.Proposal
			signed, err := k.Signatures("")
			if err != nil {
				return err
			}
			o := render.ProposalOptions{Full: full, Now: time.Now(), Summary: summary, Show: propose.Showing(only, kinds),
				Signed: signed}
			return a.showProposal(p, a.formOr(form), o, fit)
		},
	}
}

// against says what a proposal would do otherwise than one that was reviewed.
func (a *app) against(ctx context.Context, reviewed, now string, exitCode bool) error {
	d, err := session.CompareProposals(ctx, a.config(a.env, nil), reviewed, now)
	if err != nil {
		return err
	}
	if err := show(a, d, (*render.Out).Against); err != nil {
		return err
	}
	if exitCode && len(d.Differences) > 0 {
		return exit.ErrDifferent
	}
	return nil
}
