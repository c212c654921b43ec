package cli

import (
	"context"
	"flag"
	"slices"
	"strings"
	"time"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/render"
)

func reviewCommand() *command {
	var only listFlag
	var action, form string
	var summary, full bool
	var fit int
	return &command{
		Name: "review", Short: "show a kept proposal again, in part or for a pull request", Args: "FILE",
		Long: "Shows a proposal that propose -o kept, after checking that it shows what it does. -action " +
			"and -only show a part of it; -form markdown -fit 60000 makes a comment for a pull request.",
		Examples: [2]string{"kasbah review change.json -action drop,swap",
			"kasbah review change.json -form html > change.html"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var(&only, "only", "show addresses that match this `pattern`; repeatable")
			fs.StringVar(&action, "action", "", "show these `actions`, with commas: new, edit, swap, drop")
			fs.BoolVar(&summary, "summary", false, "show the summary alone")
			fs.BoolVar(&full, "full", false, "list every action, even identical ones")
			fs.StringVar(&form, "form", "text", "the `form`: text, markdown, html or json")
			fs.IntVar(&fit, "fit", 0, "shorten Markdown to at most this many `bytes`; harmless actions go first")
		},
		Takes: exactly(1, "one file, which propose -o has kept"),
		Run: func(ctx context.Context, a *app, args []string) error {
			if err := a.chooseForm(&form, "text", "markdown", "html", "json"); err != nil {
				return err
			}
			if fit < 0 || fit > 0 && form != "markdown" {
				return problem.Usage("-fit is a number of bytes, and goes with -form markdown")
			}
			kinds, err := chosenActions(action)
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
			o := render.ProposalOptions{Full: full, Now: time.Now(), Summary: summary, Show: showing(only, kinds),
				Signed: signed}
			return a.showProposal(p, form, o, fit)
		},
	}
}

// chosenActions reads -action.
func chosenActions(list string) ([]string, error) {
	if list == "" {
		return nil, nil
	}
	known := []string{"new", "edit", "swap", "drop", "adopt", "release", "rename"}
	kinds := strings.Split(strings.ReplaceAll(list, " ", ""), ",")
	for _, k := range kinds {
		if !slices.Contains(known, k) {
			return nil, &problem.UsageError{Message: "-action: there is no action " + k, Hint: nearest.Hint(k, known)}
		}
	}
	return kinds, nil
}

// showing is the test of what is shown; nil when that is everything.
func showing(only, kinds []string) func(*propose.Action) bool {
	if len(only) == 0 && len(kinds) == 0 {
		return nil
	}
	var matches []func(string) bool
	for _, pattern := range only {
		matches = append(matches, propose.Pattern(pattern))
	}
	return func(a *propose.Action) bool {
		hit := len(matches) == 0
		for _, m := range matches {
			hit = hit || m(a.Address) || m(value.InWard(a.Ward, a.Address))
		}
		return hit && (len(kinds) == 0 || slices.Contains(kinds, string(a.Kind)))
	}
}
