package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/settle"
	"kasbah/core/value"
	"kasbah/render"
	"kasbah/session"
)

// settleFlags are those of settle.
type settleFlags struct {
	enactFlags
	putBack, takeOver, leave, letGo bool
	accept                          string // the last day
	dry, commit                     bool
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
			resolution, err := f.resolution()
			if err != nil {
				return err
			}
			return a.settle(ctx, f, resolution, args)
		},
	}
}

func (f *settleFlags) register(fs *flag.FlagSet) {
	fs.BoolVar(&f.putBack, "put-back", false, "make the cloud as it is declared")
	fs.BoolVar(&f.takeOver, "take-over", false, "change the code so that it says what is live")
	fs.BoolVar(&f.leave, "leave", false, "leave the attributes to others from now on, with care(leave = …)")
	fs.BoolVar(&f.letGo, "let-go", false, "stop managing the resources, and take their declarations out")
	fs.StringVar(&f.accept, "accept", "", "accept the differences until this `date`, such as 2026-12-31; needs -why")
	fs.BoolVar(&f.dry, "dry", false, "only show how files would change")
	fs.BoolVar(&f.commit, "commit", false, "commit the changed files with git, with who changed what")
	fs.Var(&f.allow, "allow", "allow `what` needs consent: data (loss of data), security (changes of security), or "+
		"both with a comma")
	f.registerRun(fs)
	f.Rehearse, f.ifOneFails, f.form, f.parallel, f.timeout = "auto", "stop", "text", enact.DefaultParallel,
		enact.DefaultTimeout
}

// resolution is the one that the flags ask for; "" for none.
func (f *settleFlags) resolution() (settle.Resolution, error) {
	var chosen []settle.Resolution
	for _, x := range []struct {
		is bool
		r  settle.Resolution
	}{{f.putBack, settle.PutBack}, {f.takeOver, settle.TakeOver}, {f.leave, settle.Leave}, {f.letGo, settle.LetGo},
		{f.accept != "", settle.Accept}} {
		if x.is {
			chosen = append(chosen, x.r)
		}
	}
	if len(chosen) > 1 {
		return "", problem.Usage("settle takes one of -put-back, -take-over, -leave, -let-go and -accept")
	}
	if len(chosen) == 0 {
		return "", nil
	}
	return chosen[0], f.acceptance()
}

// acceptance is an error for a day that is none, or without a reason.
func (f *settleFlags) acceptance() error {
	if f.accept == "" {
		return nil
	}
	if _, err := time.Parse(time.DateOnly, f.accept); err != nil {
		return problem.Usage("-accept must be a date such as 2026-12-31, not %q", f.accept)
	}
	if f.reason == "" {
		return problem.Usage("-accept needs a reason: -why \"…\"")
	}
	return nil
}

func (a *app) settle(ctx context.Context, f settleFlags, resolution settle.Resolution, patterns []string) error {
	s, err := a.open(ctx, nil)
	if err != nil {
		return err
	}
	report, err := s.Survey(ctx, session.SurveyRequest{})
	if err != nil {
		return err
	}
	doc := &settle.Document{Format: "kasbah.settle/1", Env: s.Env, Settled: []settle.Outcome{}, Left: []settle.Outcome{},
		Files: []string{}}
	list := settle.Differences(report, patterns)
	if len(list) == 0 {
		return show(a, doc, func(o *render.Out, _ *settle.Document) {
			o.Printf("Nothing that is asked for has drifted in %s.\n", s.Env)
		})
	}
	chosen := map[settle.Resolution][]settle.Difference{resolution: list}
	if resolution == "" {
		if !a.interactive() || a.yes {
			return problem.Usage("settle needs one of -put-back, -take-over, -leave, -let-go and -accept where it " +
				"cannot ask")
		}
		if chosen, err = a.askSettle(ctx, s, list, &f); err != nil {
			return err
		}
	}
	for _, r := range []settle.Resolution{settle.TakeOver, settle.Leave, settle.LetGo, settle.Accept, settle.PutBack} {
		if len(chosen[r]) == 0 {
			continue
		}
		if err := a.settleBy(ctx, s, f, r, chosen[r], doc); err != nil {
			return err
		}
	}
	if f.dry {
		return show(a, doc, func(*render.Out, *settle.Document) {})
	}
	return a.settled(ctx, list, doc)
}

// settleBy settles differences in one way.
func (a *app) settleBy(ctx context.Context, s *session.Session, f settleFlags, r settle.Resolution,
	list []settle.Difference, doc *settle.Document) error {
	switch r {
	case settle.PutBack:
		if f.dry {
			return nil
		}
		if err := a.putBack(ctx, f, list); err != nil {
			return err
		}
		doc.Note(r, list)
		return nil
	case settle.Accept:
		if f.dry {
			return nil
		}
		if err := s.AcceptDrift(ctx, list, f.accept, f.reason, s.EnactOptions(ctx, f.run(a))); err != nil {
			return err
		}
		doc.Note(r, list)
		return nil
	}
	p, err := s.PlanSettle(ctx, list, r)
	if err != nil {
		return err
	}
	for _, d := range p.Decided {
		doc.Leave(r, d)
		a.out().SettleLeft(d)
	}
	doc.Diff += p.Diff
	a.out().Diff(p.Diff)
	if len(p.Settled) == 0 || f.dry {
		return a.flush()
	}
	if err := a.mayMove(ctx, p); err != nil {
		return err
	}
	if err := a.agree(ctx, settleQuestion(p, r)); err != nil {
		return err
	}
	files, err := p.Write()
	if err != nil {
		return err
	}
	for _, file := range files {
		a.out().Printf("wrote %s\n", file)
	}
	doc.Files = append(doc.Files, files...)
	if err := a.follow(ctx, f, p, r); err != nil {
		return err
	}
	doc.Note(r, p.Settled)
	if f.commit && len(files) > 0 {
		return s.CommitFiles(ctx, files, r, p.Settled)
	}
	return nil
}

func settleQuestion(p *session.Settling, r settle.Resolution) string {
	n := render.Count(len(p.Settled), "difference")
	switch r {
	case settle.Leave:
		return fmt.Sprintf("Write it, and leave %s to others?", n)
	case settle.LetGo:
		return fmt.Sprintf("Write it, and let go of %s?", render.Count(len(p.Addresses()), "resource"))
	}
	return fmt.Sprintf("Write it, and take over %s?", n)
}

// mayMove asks whether changes may move other resources.
func (a *app) mayMove(ctx context.Context, p *session.Settling) error {
	if len(p.Moves) == 0 {
		return nil
	}
	var names []string
	for _, x := range p.Moves {
		names = append(names, fmt.Sprintf("%s %s", x.Kind, x.Full()))
	}
	if !a.interactive() {
		return &enact.Refused{Reasons: []string{fmt.Sprintf("the changes would also move others, and nothing is written: "+
			"%s; settle fewer at once, or at a terminal", strings.Join(names, ", "))}}
	}
	a.out().Printf("The next proposal would also change: %s\n", strings.Join(names, ", "))
	return a.yesTo(ctx, "Write it all the same?", "", "nothing is written")
}

// follow lets the ledger follow the code.
func (a *app) follow(ctx context.Context, f settleFlags, p *session.Settling, r settle.Resolution) error {
	s, err := a.open(ctx, nil)
	if err != nil {
		return err
	}
	if r == settle.LetGo {
		states, err := s.States(ctx)
		if err != nil {
			return err
		}
		full := slices.DeleteFunc(p.Addresses(), func(full string) bool {
			ward, address := value.SplitWard(full)
			return states[ward] == nil || states[ward].Records[address] == nil
		})
		if len(full) == 0 {
			return nil
		}
		return enact.Release(ctx, full, s.EnactOptions(ctx, f.run(a)))
	}
	return enact.Follow(ctx, p.Followed(), s.EnactOptions(ctx, f.run(a)))
}

// putBack makes the cloud as it is declared.
func (a *app) putBack(ctx context.Context, f settleFlags, list []settle.Difference) error {
	s, err := a.open(ctx, nil)
	if err != nil {
		return err
	}
	var full []string
	for _, d := range list {
		full = append(full, d.Full())
	}
	return a.enactOnly(ctx, s, f, full, func(p *propose.Proposal) error {
		if !a.quiet && p.Counts.Changing() > 0 {
			a.out().Proposal(p, render.ProposalOptions{Full: f.full})
			if err := a.flush(); err != nil {
				return err
			}
		}
		if p.Counts.Changing() == 0 {
			return nil
		}
		return a.consent(ctx, p, f.enactFlags)
	})
}

// enactOnly proposes for some addresses alone, lets may look at the proposal, and enacts it.
func (a *app) enactOnly(ctx context.Context, s *session.Session, f settleFlags, full []string,
	may func(*propose.Proposal) error) error {
	return enact.TakeTurn(ctx, enact.Turn{
		Propose: s.Proposer(session.Request{Only: full, Rehearse: f.Rehearse}, func(problem.List) {}),
		CarryOut: func(ctx context.Context, p *propose.Proposal, o enact.Options) error {
			if err := enact.Blocked(p); err != nil || p.Idle() {
				return err
			}
			if len(p.Approvals) > 0 {
				return enact.Unsigned(p)
			}
			if err := may(p); err != nil {
				return err
			}
			var err error
			if o.Judge, err = s.JudgeAgain(ctx, p); err != nil {
				return err
			}
			r, err := enact.Enact(ctx, p, o)
			if err != nil {
				return err
			}
			if len(r.Failures) > 0 {
				return problem.List(r.Failures)
			}
			if p.Counts.Changing() > 0 {
				a.out().Printf("%d done. Run %s.\n", r.Counts.Done, ledger.ShortRun(r.Run))
			}
			return nil
		},
		Options: func() enact.Options { return s.EnactOptions(ctx, f.run(a)) },
		Tell:    func(words string) { a.say("%s", words) },
	})
}

// settled surveys again what was settled, and says what is left.
func (a *app) settled(ctx context.Context, list []settle.Difference, doc *settle.Document) error {
	s, err := a.open(ctx, nil)
	if err != nil {
		return err
	}
	var only []string
	for _, d := range list {
		only = append(only, d.Full())
	}
	slices.Sort(only)
	report, err := s.Survey(ctx, session.SurveyRequest{Only: slices.Compact(only)})
	if err != nil {
		return err
	}
	left := settle.Differences(report, nil)
	doc.StillThere(left)
	if err := show(a, doc, func(o *render.Out, d *settle.Document) { o.Settled(d) }); err != nil {
		return err
	}
	if len(left) > 0 {
		return errDifferent
	}
	return nil
}
