package cli

import (
	"context"
	"flag"
	"fmt"
	"time"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/settle"
	"kasbah/exit"
	"kasbah/render"
	"kasbah/session"
)

// settleFlags are those of settle.
type settleFlags struct {
	enactFlags
	request session.SettleRequest
	ways    [4]bool // one for each of settleWays
}

// settleWays are the resolutions that a flag without a value asks for.
var settleWays = [4]struct {
	by   settle.Resolution
	help string
}{
	{settle.PutBack, "make the cloud as it is declared"},
	{settle.TakeOver, "change the code so that it says what is live"},
	{settle.Leave, "leave the attributes to others from now on, with care(leave = …)"},
	{settle.LetGo, "stop managing the resources, and take their declarations out"},
}

func settleCommand() *command {
	var f settleFlags
	return &command{
		Name: "settle", Short: "resolve drift: put it back, take it into the code, leave it, let it go or accept it",
		Args: "[ADDRESS[.PATH]…]", Estate: true,
		Long: "Surveys, and settles each difference that the patterns choose. At a terminal it shows each and " +
			"asks; elsewhere a flag decides for all. Code is changed only where a new proposal proves that " +
			"the resources are then as declared; a value that other code computes is left, and the line that " +
			"decides it is named. It ends with 3 when something is left.",
		Examples: [2]string{"kasbah settle -env live", "kasbah settle 'medina.machine/*.size' -take-over -commit"},
		Flags:    f.register,
		Run: func(ctx context.Context, a *app, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			f.request.Patterns = args
			return a.settle(ctx, f)
		},
	}
}

func (f *settleFlags) register(fs *flag.FlagSet) {
	for i, w := range settleWays {
		fs.BoolVar(&f.ways[i], string(w.by), false, w.help)
	}
	fs.StringVar(&f.request.Until, "accept", "", "accept the differences until this `date`, such as 2026-12-31; needs "+
		"-why")
	fs.BoolVar(&f.request.Dry, "dry", false, "only show how files would change")
	fs.BoolVar(&f.request.Commit, "commit", false, "commit the changed files with git, with who changed what")
	f.registerAllow(fs)
	f.registerRehearse(fs)
	f.registerRun(fs)
}

// check finds the resolution that the flags ask for.
func (f *settleFlags) check() error {
	n := 0
	for i, w := range settleWays {
		if f.ways[i] {
			f.request.Resolution = w.by
			n++
		}
	}
	if f.request.Until != "" {
		f.request.Resolution = settle.Accept
		n++
	}
	if n > 1 {
		return problem.Usage("settle takes one of -put-back, -take-over, -leave, -let-go and -accept")
	}
	return checkAcceptance(f.request.Until, f.reason)
}

// checkAcceptance is an error for a day that is none, or without a reason.
func checkAcceptance(until, why string) error {
	if until == "" {
		return nil
	}
	return checkUntil("-accept", until, "-accept", why)
}

// checkUntil is an error for a day that is none, or where what needs a reason has none.
func checkUntil(flag, until, what, why string) error {
	if _, err := time.Parse(time.DateOnly, until); err != nil && until != "" {
		return problem.Usage("%s must be a date such as 2026-12-31, not %q", flag, until)
	}
	if why == "" {
		return problem.Usage("%s needs a reason: -why \"…\"", what)
	}
	return nil
}

func (a *app) settle(ctx context.Context, f settleFlags) error {
	s, err := a.open(ctx, nil)
	if err != nil {
		return err
	}
	if f.request.Resolution == "" && (!a.interactive() || a.yes) {
		return problem.Usage("settle needs one of -put-back, -take-over, -leave, -let-go and -accept where it cannot ask")
	}
	f.request.Run, f.request.Rehearse = f.run(a), f.Rehearse
	d, err := s.Settle(ctx, f.request, session.SettleTalk{
		Choose: func(ctx context.Context, list []settle.Difference) (*session.Chosen, error) {
			return a.at().Settle(ctx, s, list, checkAcceptance)
		},
		Changes: a.settleChanges, MayWrite: a.maySettle,
		MayEnact: func(ctx context.Context, p *propose.Proposal) error {
			a.out().Proposal(p, render.ProposalOptions{Full: f.full})
			if err := a.flush(); err != nil {
				return err
			}
			return a.consent(ctx, p, f.enactFlags)
		},
		Found: a.tellFound,
		Done: func(r *enact.Result) {
			a.out().Printf("%d done. Run %s.\n", r.Counts.Done, ledger.ShortRun(r.Run))
		},
	})
	if err != nil {
		return err
	}
	if err := show(a, d, (*render.Out).Settled); err != nil {
		return err
	}
	if len(d.Left) > 0 && !f.request.Dry {
		return exit.ErrDifferent
	}
	return nil
}

func (a *app) settleChanges(p *session.Settling) error {
	a.out().SettleChanges(p.Decided, p.Diff)
	return a.flush()
}

// maySettle asks whether changes may be written, and whether they may move other resources.
func (a *app) maySettle(ctx context.Context, p *session.Settling) error {
	moves := p.MovesInWords()
	switch {
	case moves == "":
		return a.agree(ctx, fmt.Sprintf("Write it, and %s %s?", p.Resolution.InWords(), render.Count(len(p.Settled), "difference")))
	case !a.interactive():
		return &enact.Refused{Reasons: []string{"the changes would also move others, and nothing is written: " + moves +
			"; settle fewer at once, or at a terminal"}}
	}
	a.out().Printf("The next proposal would also change: %s\n", moves)
	return a.yesTo(ctx, "Write it all the same?", "", "nothing is written")
}
