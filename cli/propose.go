package cli

import (
	"cmp"
	"context"
	"flag"

	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/render"
	"kasbah/session"
)

// proposeFlags are those of propose, and of enact without a file.
type proposeFlags struct {
	session.Request
	full bool
}

func proposeCommand() *command {
	var f proposeFlags
	form, keep, since := "text", "", ""
	var readers flags.List
	var exitCode bool
	return &command{
		Name: "propose", Several: true, Short: "preview what would change, against the ledger and the live cloud", Args: "[WARD…]",
		Estate: true,
		Long: "Compares what is declared, what the ledger has recorded and what is live, and shows one " +
			"action for each resource. It changes nothing. -o keeps the proposal in a file, which enact " +
			"carries out exactly as it was shown. -since leaves out the wards whose declarations are as they " +
			"were at a commit.",
		Examples: [2]string{"kasbah propose -env trial",
			"kasbah propose shore -only 'medina.machine/*' -o change.json"},
		Flags: func(fs *flag.FlagSet) {
			f.register(fs)
			fs.Var(flags.Choice(&form, "text", "markdown", "html", "json"), "form", "the `form`: text, markdown, html or json")
			fs.StringVar(&keep, "o", "", "keep the proposal in this `file`, sealed as the ledger is")
			fs.Var(&readers, "reader", "with -o: let this public `key` read it, too; repeatable")
			f.registerRehearse(fs)
			fs.BoolVar(&f.Raze, "raze", false, "propose the removal of everything in the wards")
			fs.BoolVar(&f.Anew, "anew", false, "evaluate the declarations, even if nothing has changed since the "+
				"last proposal")
			fs.StringVar(&since, "since", "", "only the wards that are affected since this `commit`; see `kasbah affected`")
			fs.BoolVar(&exitCode, "exit-code", false, "end with 3 when something would change")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if err := cmp.Or(when(keep != "", a.one("-o")), when(form == "html", a.one("-form html"))); err != nil {
				return err
			}
			if since != "" {
				var err error
				if args, err = session.NarrowedSince(ctx, a.config(a.env, args), since); err != nil || len(args) == 0 {
					return err
				}
			}
			s, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			made, err := s.Propose(ctx, f.Request)
			if err != nil {
				return err
			}
			a.tellRemarks(made.Remarks)
			p := made.Proposal
			if keep != "" {
				if err := s.Keep(ctx, keep, p, readers); err != nil {
					return err
				}
			}
			if err := a.showProposal(p, a.formOr(form), render.ProposalOptions{Full: f.full}, 0); err != nil {
				return err
			}
			if keep != "" {
				a.say("Kept in %s; `kasbah enact %s` carries it out.", keep, keep)
			}
			switch {
			case len(p.Blocked) > 0:
				return exit.Error(exit.Refused)
			case exitCode && p.Counts.Changing() > 0:
				return exit.ErrDifferent
			}
			return nil
		},
	}
}

func (f *proposeFlags) register(fs *flag.FlagSet) {
	fs.Var((*flags.List)(&f.Only), "only", "only addresses that match this `pattern`, and what they need; repeatable")
	fs.Var((*flags.List)(&f.Swap), "swap", "make again what matches this `pattern`, though nothing differs, such as a "+
		"sick machine; repeatable")
	fs.BoolVar(&f.Offline, "offline", false, "compare with the ledger alone")
	fs.BoolVar(&f.full, "full", false, "list every action, even identical ones")
}

// registerRehearse registers when clouds are asked what they would refuse.
func (f *proposeFlags) registerRehearse(fs *flag.FlagSet) {
	f.Rehearse = "auto"
	fs.Var(flags.Choice(&f.Rehearse, "auto", "always", "never"), "rehearse", "`when` to ask clouds what they would refuse: auto (those that "+
		"take all calls in one request), always (also those that need a request for each call), or never")
}

// showProposal writes a proposal in one of its forms. Markdown is shortened to fit so many
// bytes; 0 for no limit.
func (a *app) showProposal(p *propose.Proposal, form string, o render.ProposalOptions, fit int) (err error) {
	switch form {
	case "json":
		return a.document(p)
	case "markdown":
		_, err = a.buffer.Write(render.Markdown(p, o, fit))
	case "html":
		_, err = a.buffer.Write(render.Page(p, o))
	default:
		a.out().Proposal(p, o)
	}
	return err
}

// tellRemarks tells what is worth a look in declarations that are not wrong.
func (a *app) tellRemarks(list problem.List) {
	for _, one := range list {
		if !a.quiet {
			a.errs().Problem(one)
		}
	}
}
