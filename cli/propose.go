package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"

	"golang.org/x/sync/errgroup"

	"kasbah/core/approval"
	"kasbah/core/declare"
	"kasbah/core/disk"
	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/graph"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/seal"
	"kasbah/core/value"
	"kasbah/render"
)

// proposeFlags are those of propose, and of enact without a file.
type proposeFlags struct {
	only     listFlag
	swap     listFlag
	offline  bool
	full     bool
	anew     bool
	keep     string
	form     string
	raze     bool
	exitCode bool
	readers  listFlag
	rehearse string // auto, always or never
}

func proposeCommand() *command {
	var f proposeFlags
	return &command{
		name: "propose", line: "preview what would change, against the ledger and the live cloud", args: "[WARD…]", common: true,
		examples: [2]string{"kasbah propose -env trial", "kasbah propose shore -only 'medina.machine/*' -o change.json"},
		flags: func(fs *flag.FlagSet) {
			f.register(fs)
			fs.StringVar(&f.form, "form", "text", "the `form`: text, markdown, html or json")
			fs.StringVar(&f.keep, "o", "", "keep the proposal in this `file`, sealed as the ledger is")
			fs.Var(&f.readers, "reader", "with -o: this public `key` can read it as well; may be given again")
			f.registerRehearse(fs)
			fs.BoolVar(&f.raze, "raze", false, "propose the removal of everything in the wards")
			fs.BoolVar(&f.anew, "anew", false, "evaluate the declarations although nothing has moved since the last proposal, which is remembered")
			fs.BoolVar(&f.exitCode, "exit-code", false, "end with 3 when something would change")
		},
		run: func(ctx context.Context, a *app, args []string) error { return a.runPropose(ctx, f, args) },
	}
}

func (f *proposeFlags) register(fs *flag.FlagSet) {
	fs.Var(&f.only, "only", "limit it to addresses that match this `pattern`, and what they need; may be given again")
	fs.Var(&f.swap, "swap", "swap what matches this `pattern` though nothing differs, such as a sick machine; may be given again")
	fs.BoolVar(&f.offline, "offline", false, "compare with the ledger alone")
	fs.BoolVar(&f.full, "full", false, "list every action, even identical ones")
}

// registerRehearse registers when clouds are asked what they would refuse.
func (f *proposeFlags) registerRehearse(fs *flag.FlagSet) {
	fs.StringVar(&f.rehearse, "rehearse", "auto", "`when` clouds are asked beforehand what they would refuse: auto (those that take all calls in one request), always (those as well that need one for each call), or never")
}

// checkRehearse is an error for another word.
func (f *proposeFlags) checkRehearse() error {
	all := []string{"", "auto", "always", "never"}
	if !slices.Contains(all, f.rehearse) {
		return &problem.UsageError{Message: fmt.Sprintf("-rehearse is %q, and must be auto, always or never", f.rehearse), Hint: nearest.Hint(f.rehearse, all[1:])}
	}
	return nil
}

func (a *app) runPropose(ctx context.Context, f proposeFlags, args []string) error {
	if err := f.checkRehearse(); err != nil {
		return err
	}
	if err := a.chooseForm(&f.form, "text", "markdown", "html", "json"); err != nil {
		return err
	}
	p, err := a.open(ctx, args)
	if err != nil {
		return err
	}
	proposal, err := a.propose(ctx, p, f)
	if err != nil {
		return err
	}
	if f.keep != "" {
		if err := a.keep(ctx, p, f.keep, proposal, f.readers); err != nil {
			return err
		}
	}
	switch f.form {
	case "json":
		err = a.document(proposal)
	case "markdown":
		_, err = a.buffer.Write(render.Markdown(proposal, render.ProposalOptions{}, 0))
	case "html":
		err = a.page(proposal, render.ProposalOptions{})
	default:
		a.out().Proposal(proposal, render.ProposalOptions{Full: f.full})
	}
	if err != nil {
		return err
	}
	if f.keep != "" {
		a.say("Kept in %s; `kasbah enact %s` carries it out.", f.keep, f.keep)
	}
	switch {
	case len(proposal.Blocked) > 0:
		return exitError(exitRefused)
	case f.exitCode && proposal.Counts.Changing() > 0:
		return errDifferent
	}
	return nil
}

// propose makes a proposal for the project's wards.
func (a *app) propose(ctx context.Context, p *project, f proposeFlags) (_ *propose.Proposal, err error) {
	var d *declare.Declared
	var g *graph.Graph
	var states map[string]*ledger.State
	var live propose.Live
	reading, cancel := context.WithCancel(ctx)
	read, reading := errgroup.WithContext(reading)
	defer func() {
		cancel()
		_ = read.Wait() // nothing goes on reading; what went wrong is told below
	}()
	read.Go(func() (err error) { // beside the evaluation, which keeps one core busy
		if states, err = p.states(reading); err == nil {
			live, err = p.live(reading, states, f)
		}
		return err
	})
	again := a.recall(ctx, p, f)
	if again != nil && again.was != nil {
		if err := read.Wait(); err != nil {
			return nil, err
		}
		o := a.proposeOptions(ctx, p, nil, nil, states, live, f)
		if o.ByKey, err = a.proposerKey(p, states); err != nil {
			return nil, err
		}
		proposal, err := again.was.Again(o)
		if proposal != nil {
			a.tellRemarks(again.was.Remarks)
			if a.verbose {
				a.say("The declarations are as they were at the last proposal; they were not evaluated again.")
			}
			return proposal, nil
		}
		a.forgot(err)
	}
	if !f.raze {
		if d, g, err = a.declaredWithSecrets(ctx, p); err != nil {
			return nil, err
		}
	}
	if err := a.rulesFor(ctx, p); err != nil {
		return nil, err
	}
	if err := read.Wait(); err != nil {
		return nil, err
	}
	o := a.proposeOptions(ctx, p, d, g, states, live, f)
	if o.ByKey, err = a.proposerKey(p, states); err != nil {
		return nil, err
	}
	proposal, err := propose.Propose(ctx, o)
	if err == nil {
		a.remember(p, again, proposal, o)
		err = a.rehearse(ctx, p, proposal, f)
	}
	return proposal, err
}

// rehearse asks the clouds what they would refuse, unless nothing is to be asked.
func (a *app) rehearse(ctx context.Context, p *project, proposal *propose.Proposal, f proposeFlags) error {
	if f.offline || f.rehearse == "never" || proposal.Counts.Changing() == 0 {
		return nil
	}
	return enact.Rehearse(ctx, proposal, enact.RehearseOptions{
		Drivers: p.drivers, Catalogs: p.catalogs, Ledgers: p.ledgers, Each: f.rehearse == "always", Run: p.holding,
	})
}

// live reads what the clouds show of what is recorded; nothing when offline.
func (p *project) live(ctx context.Context, states map[string]*ledger.State, f proposeFlags) (propose.Live, error) {
	if f.offline {
		return nil, nil
	}
	return propose.ReadLive(ctx, p.drivers, p.catalogs, states)
}

// compareNow reads the clouds and compares.
func (a *app) compareNow(ctx context.Context, p *project, d *declare.Declared, g *graph.Graph, states map[string]*ledger.State, f proposeFlags) (*propose.Proposal, error) {
	live, err := p.live(ctx, states, f)
	if err != nil {
		return nil, err
	}
	o := a.proposeOptions(ctx, p, d, g, states, live, f)
	if o.ByKey, err = a.proposerKey(p, states); err != nil {
		return nil, err
	}
	proposal, err := propose.Propose(ctx, o)
	if err == nil {
		err = a.rehearse(ctx, p, proposal, f)
	}
	return proposal, err
}

func (a *app) proposeOptions(ctx context.Context, p *project, d *declare.Declared, g *graph.Graph, states map[string]*ledger.State, live propose.Live, f proposeFlags) propose.Options {
	o := propose.Options{
		Rules: p.rules, Found: p.found,
		Estate: p.estate.Name, Env: p.env, By: a.identity().Who, Program: version(), Run: p.holding, Declared: d, Graph: g, Wards: p.wards,
		Sealed: p.box != nil, Secret: p.secretOf(ctx), Approval: p.approval, States: states, Catalogs: p.catalogs, Only: f.only, Swap: f.swap,
		Outside: func(ward string) (*ledger.State, error) { return p.otherState(ctx, ward) },
	}
	if p.otherName != "" {
		o.Warnings = append(o.Warnings, p.otherName)
	}
	for _, w := range p.estate.Wards {
		if !slices.Contains(p.wards, w) {
			o.Others = append(o.Others, w)
		}
	}
	if d != nil {
		o.RenamedAway = func() (map[string]string, error) { return a.renamedAway(ctx, p, o.Others) }
	}
	if !f.offline {
		o.Live = live
		o.Find = func(typ string, match value.Map) ([]driver.Live, error) {
			drv, name := propose.SplitType(typ)
			return p.drivers[drv].Find(ctx, name, match)
		}
		o.Vetters = map[string]driver.Vetter{}
		for name, d := range p.drivers {
			if v, ok := d.(driver.Vetter); ok {
				o.Vetters[name] = v
			}
		}
	}
	return o
}

// page writes a proposal as an HTML page.
func (a *app) page(p *propose.Proposal, o render.ProposalOptions) error {
	_, err := a.buffer.Write(render.Page(p, o))
	return err
}

// keep writes a proposal to a file, whole or not at all, signed by who proposes it. It is
// sealed as the ledger is, and readable by some more who have no key to that.
func (a *app) keep(ctx context.Context, p *project, path string, proposal *propose.Proposal, more []string) error {
	proposal.Commit = p.commit(ctx)
	payload, err := proposal.Seal()
	if err != nil {
		return err
	}
	body := payload
	if proposal.ByKey != "" {
		s, err := a.signer([]string{proposal.ByKey})
		if err != nil {
			return err
		}
		e := approval.Wrap(payload)
		if _, err := e.Sign(s); err != nil {
			return err
		}
		if body, err = enveloped(e); err != nil {
			return err
		}
	}
	switch {
	case p.box != nil:
		head := seal.FileHead{Recipients: slices.Clone(p.box.Recipients)}
		for _, r := range more {
			head.Recipients = append(head.Recipients, estate.Key(r))
		}
		if head.Proof, err = p.box.Proof(ctx, payload); err != nil {
			return fmt.Errorf("the proposal could not be proven: %w", err)
		}
		if body, err = seal.SealFile(body, head); err != nil {
			return fmt.Errorf("the proposal could not be sealed: %w", err)
		}
	case len(more) > 0:
		return problem.Usage("-reader: the ledger is not sealed, so neither is the proposal, and anybody can read it")
	}
	if err := disk.Replace(path, body, 0o600); err != nil {
		return fmt.Errorf("the proposal could not be kept: %w", err)
	}
	return nil
}
