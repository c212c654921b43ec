package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/term"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/rules"
	"kasbah/exit"
	"kasbah/flags"
	"kasbah/render"
	"kasbah/session"
)

// enactFlags are those of enact and raze.
type enactFlags struct {
	file    string // the kept proposal that is enacted; "" for none
	summary string // the file that the run's summary goes into; "" for none
	form    string // of what is written to standard output
	proposeFlags
	parallel   int
	timeout    time.Duration
	wait       time.Duration
	breakStale bool
	allow      flags.Words
	ifOneFails string
	reason     string
}

func (f *enactFlags) register(fs *flag.FlagSet) {
	fs.IntVar(&f.parallel, "parallel", enact.DefaultParallel, "how many `calls` to make at the same time")
	fs.DurationVar(&f.timeout, "timeout", enact.DefaultTimeout, "how long one call may take")
	f.ifOneFails, f.form = "stop", "text"
	fs.Var(flags.Choice(&f.ifOneFails, "stop", "go-on", "undo"), "if-one-fails", "`what` to do when one fails: stop (let running calls "+
		"finish), go-on (do everything that does not depend on it) or undo (take back what the run did)")
	f.registerAllow(fs)
	fs.StringVar(&f.summary, "o", "", "write the run's result to this `file`, as JSON")
	fs.Var(flags.Choice(&f.form, "text", "markdown"), "form", "the `form` of what is written: text, or markdown for a summary of the run")
	f.registerRehearse(fs)
	f.registerRun(fs)
}

// registerRun registers what every run takes that writes to the ledger.
func (f *enactFlags) registerRun(fs *flag.FlagSet) {
	fs.StringVar(&f.reason, "why", "", "the `reason`, for the ledger")
	f.registerWait(fs)
}

// registerAllow registers the consents that are given beforehand.
func (f *enactFlags) registerAllow(fs *flag.FlagSet) {
	fs.Var(&f.allow, "allow", "allow `what` needs consent: data (loss of data), security (changes of security), or "+
		"both with a comma")
}

// registerWait registers what to do when another run holds a lock.
func (f *enactFlags) registerWait(fs *flag.FlagSet) {
	fs.DurationVar(&f.wait, "wait", 0, "how long to wait for the lock, such as 10m")
	fs.BoolVar(&f.breakStale, "break-stale", false, "take the lock of a dead run")
}

func enactCommand() *command {
	var f enactFlags
	return &command{
		Name: "enact", Short: "carry out a proposal; without a file it proposes first and asks", Args: "[WARD… | FILE]",
		Estate: true, Lines: true,
		Long: "Without a file it makes a proposal, shows it, asks, and carries it out. With a file it " +
			"carries out that proposal and nothing else. Each call is recorded before it is made, so the " +
			"next run can settle what an interrupted one left open.",
		Examples: [2]string{"kasbah enact shore -env trial", "kasbah enact change.json -yes"},
		Flags: func(fs *flag.FlagSet) {
			f.proposeFlags.register(fs)
			f.register(fs)
		},
		Run: func(ctx context.Context, a *app, args []string) error { return a.runEnact(ctx, f, args) },
	}
}

func (f *enactFlags) check() error {
	for _, s := range f.allow.List {
		if s != "data" && s != "security" {
			return problem.Usage("-allow is %q, and must be data or security", s)
		}
	}
	if f.parallel < 1 || f.parallel > 1000 {
		return problem.Usage("-parallel must lie between 1 and 1000")
	}
	return nil
}

func (a *app) runEnact(ctx context.Context, f enactFlags, args []string) error {
	if err := f.check(); err != nil {
		return err
	}
	for _, arg := range args {
		if !isFile(arg) {
			continue
		}
		if err := a.asItIs(arg, args); err != nil {
			return err
		}
		return a.enactFile(ctx, f, arg)
	}
	return a.enactWards(ctx, f, args)
}

// changing are the flags that would change what a proposal does, and have no place
// where one is carried out that was made and reviewed before.
var changing = []string{"only", "swap", "offline", "input", "inputs"}

// asItIs refuses, beside the file of a proposal, whatever would change what it does.
func (a *app) asItIs(file string, args []string) error {
	if len(args) > 1 {
		return problem.Usage("enact takes the file of one proposal, or wards, not both: %s and %s", file,
			strings.Join(slices.DeleteFunc(slices.Clone(args), func(s string) bool { return s == file }), ", "))
	}
	var wrong []string
	a.flags.Visit(func(f *flag.Flag) {
		if slices.Contains(changing, f.Name) {
			wrong = append(wrong, "-"+f.Name)
		}
	})
	if len(wrong) > 0 {
		return &problem.UsageError{Message: fmt.Sprintf("%s is carried out as it is: %s would change what it does",
			file, strings.Join(wrong, " and ")), Hint: "`kasbah propose` with these flags makes another proposal"}
	}
	return nil
}

// isFile reports whether an argument names a file, not a ward.
func isFile(s string) bool {
	info, err := os.Stat(s)
	if err == nil {
		return !info.IsDir()
	}
	return strings.ContainsAny(s, "./\\")
}

func (a *app) enactFile(ctx context.Context, f enactFlags, path string) error {
	k, s, err := a.openProposal(ctx, path)
	if err != nil {
		return err
	}
	if err := cmp.Or(k.SameLedgers(ctx, s), s.SameReadings(ctx, k.Proposal)); err != nil {
		return err
	}
	f.file = path
	o := s.EnactOptions(ctx, f.run(a))
	o.Envelope, o.JudgeLive = k.Envelope, true
	signed, err := k.Signatures("")
	if err != nil {
		return err
	}
	return a.carryOut(ctx, s, k.Proposal, f, o, render.ProposalOptions{Signed: signed, Now: time.Now()})
}

// enactWards proposes and carries out.
func (a *app) enactWards(ctx context.Context, f enactFlags, args []string) error {
	s, err := a.open(ctx, args)
	if err != nil {
		return err
	}
	return a.takeTurn(ctx, s, f)
}

func (a *app) takeTurn(ctx context.Context, s *session.Session, f enactFlags) error {
	return enact.TakeTurn(ctx, enact.Turn{
		Propose: s.Proposer(f.Request, a.tellRemarks),
		CarryOut: func(ctx context.Context, p *propose.Proposal, o enact.Options) error {
			o.JudgeLive = f.Offline
			show := render.ProposalOptions{}
			if f.Offline {
				show.Now = time.Now()
			}
			return a.carryOut(ctx, s, p, f, o, show)
		},
		Options: func() enact.Options { return s.EnactOptions(ctx, f.run(a)) },
		Tell:    func(words string) { a.say("%s", words) },
	})
}

// run is how the flags say that a run acts.
func (f *enactFlags) run(a *app) session.Run {
	return session.Run{
		Command: a.typed, Reason: f.reason, Parallel: f.parallel, IfOneFails: enact.IfOneFails(f.ifOneFails),
		Timeout: f.timeout,
		Wait:    ledger.WaitOptions{Wait: f.wait, BreakStale: f.breakStale, Waiting: a.waiting()},
	}
}

// waiting tells once for whom a run waits.
func (a *app) waiting() func(ledger.OpenRun) {
	told := ""
	return func(r ledger.OpenRun) {
		if told != r.Run {
			told = r.Run
			a.say("waiting for %s", render.Held(ledger.HolderOf("", &r), time.Now()))
		}
	}
}

// carryOut shows a proposal, asks for consent and enacts it.
func (a *app) carryOut(ctx context.Context, s *session.Session, proposal *propose.Proposal, f enactFlags,
	o enact.Options, show render.ProposalOptions) error {
	shown := !a.json && f.form == "text" && !(a.quiet && a.yes)
	if shown {
		show.Full, show.Undo = f.full, o.IfOneFails == enact.Undo
		a.out().Proposal(proposal, show)
		if err := a.flush(); err != nil {
			return err
		}
	}
	if err := enact.Blocked(proposal); err != nil {
		if shown { // with what blocks it
			return exit.Error(exit.Refused)
		}
		return err
	}
	if proposal.Idle() {
		return a.summarise(f, enact.NothingToDo(proposal, f.reason))
	}
	if len(proposal.Approvals) > 0 && o.Envelope == nil {
		return enact.Unsigned(proposal)
	}
	if err := a.tellFound(s.StepsBefore(ctx, proposal)); err != nil {
		return err
	}
	if proposal.Counts.Changing() > 0 || proposal.ChangesPolicy() {
		if err := a.consent(ctx, proposal, f); err != nil {
			return err
		}
	}
	stop := make(chan struct{})
	o.Stop = stop
	a.setOnStop(func(n int) bool {
		if n > 0 {
			return false // the second one ends the calls
		}
		close(stop)
		a.say("\nstopping: what is running may finish; interrupt again to end the calls")
		return true
	})
	defer a.setOnStop(nil)
	event, ended := a.progress(proposal)
	o.Event = event
	if a.heard != nil {
		o.Event = func(e enact.Event) {
			event(e)
			a.heard(e)
		}
	}
	r, err := s.Enact(ctx, proposal, o)
	ended()
	if err != nil {
		return err
	}
	if err := a.summarise(f, r.Result); err != nil {
		return err
	}
	err = cmp.Or(a.tellEnd(proposal, f, r.Result), a.tellFound(r.Found, r.Err))
	select {
	case <-stop: // it was asked to stop, and did
		if r.Outcome == "failed" {
			return exit.Error(exit.Interrupted)
		}
	default:
	}
	if ctx.Err() != nil {
		return exit.Error(exit.Interrupted)
	}
	return err
}

// tellFound shows what steps found. Where one of it blocks the error is a code: that of a refusal, which is the
// error then, or that of what failed.
func (a *app) tellFound(found []rules.Finding, err error) error {
	if a.json && err != nil {
		return err
	}
	list := rules.Problems(found)
	a.errs().Problems(list)
	switch refused := (*enact.Refused)(nil); {
	case errors.As(err, &refused):
		return exit.Error(exit.Refused)
	case err == nil && list.Wrong() > 0:
		return exit.Error(exit.Failed)
	}
	return err
}

// tellEnd says how a run ended.
func (a *app) tellEnd(proposal *propose.Proposal, f enactFlags, r *enact.Result) error {
	if len(r.Failures) > 0 {
		a.errs().Problems(problem.List(r.Failures))
	}
	if !a.json && f.form == "text" {
		a.out().RunEnd(proposal, r, f.file != "", a.again())
	}
	switch r.Outcome {
	case "failed", "undone":
		return exit.Error(exit.OfProblems(problem.List(r.Failures)))
	case "stopped":
		return exit.Error(exit.Interrupted)
	}
	return nil
}

// consent asks a person, or looks for the flags that stand in.
func (a *app) consent(ctx context.Context, p *propose.Proposal, f enactFlags) error {
	c := enact.Consents{Yes: a.yes, Data: f.allow.Has("data"), Security: f.allow.Has("security")}
	if !a.interactive() {
		return c.Missing(p)
	}
	for _, q := range c.Questions(p) {
		got, err := a.person.Ask(ctx, q.Text)
		if err != nil {
			return err
		}
		if !q.Agrees(got) {
			return &enact.Refused{Reasons: []string{"not carried out"}}
		}
	}
	return nil
}

// progress shows a run: JSON Lines, a live line on a terminal, or a line an event.
func (a *app) progress(p *propose.Proposal) (event func(enact.Event), end func()) {
	switch {
	case a.json:
		return func(e enact.Event) {
			if err := errors.Join(a.document(e), a.flush()); err != nil && a.verbose {
				a.say("an event could not be written: %v", err)
			}
		}, func() {}
	case a.quiet || p.Counts.Changing() == 0:
		return func(enact.Event) {}, func() {}
	}
	if f, ok := a.stderr.(*os.File); ok && isTerminal(f) {
		bar := render.NewBar(a.errs(), p.Forecast)
		return bar.Event, bar.Close
	}
	return a.errs().Event, func() {}
}

func isTerminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }

// summarise writes the summary of a run where it is wanted.
func (a *app) summarise(f enactFlags, r *enact.Result) error {
	if f.form == "markdown" && !a.json {
		if _, err := a.buffer.Write(render.RunMarkdown(r)); err != nil {
			return err
		}
	}
	return r.WriteTo(f.summary)
}
