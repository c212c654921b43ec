package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"strings"
	"time"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/render"
)

func lockCommand() *command {
	return &command{
		name: "lock", line: "show who holds which lock", args: "[WARD…]", common: true,
		examples: [2]string{"kasbah lock", "kasbah lock shore -json"},
		run: func(ctx context.Context, a *app, args []string) error {
			p, states, err := a.openStates(ctx, args)
			var wrong *problem.UsageError
			if errors.As(err, &wrong) && len(args) > 0 {
				if n := nearest.To(args[0], []string{"break", "recover"}); n != "" {
					wrong.Hint = "did you mean `kasbah lock " + n + "`?"
				}
			}
			if err != nil {
				return err
			}
			d := render.LockDocument{Format: "kasbah.lock/1", Holders: []ledger.Holder{}}
			rows := [][]string{render.HolderHead}
			for _, w := range p.Wards {
				for _, r := range states[w].Holders() {
					h := ledger.HolderOf(w, r)
					d.Holders = append(d.Holders, h)
					rows = append(rows, render.HolderRow(h, time.Now()))
				}
			}
			if a.json {
				return a.document(d)
			}
			if len(rows) == 1 {
				a.out().Printf("Nobody holds a lock in %s.\n", p.Env)
			} else {
				a.out().Table(rows, a.out().HeadGrey)
			}
			for _, w := range p.Wards {
				for _, in := range states[w].Unresolved() {
					a.out().Printf("%s: the %s of run %s has no result; the next enact finds out, or `kasbah lock recover %s`\n", in.Intent.Address, in.Intent.Call, ledger.ShortRun(in.Run), ledger.ShortRun(in.Run))
				}
			}
			return nil
		},
	}
}

// printLocked tells a refused person who holds the lock and what to do.
func (a *app) printLocked(l *ledger.LockedError) {
	e := a.errs()
	h := ledger.HolderOf(l.Ward, l.Holder)
	e.Printf("refused: %s (%s) is locked\n", l.Ward, a.env)
	if l.Address != "" {
		e.Printf("  at      %s\n", render.Locked(l.Address))
	}
	e.Printf("  by      %s\n", render.Held(h, time.Now()))
	if l.Dead {
		e.Printf("  but     its process no longer runs\n")
		e.Printf("  go on   %s -break-stale\n", a.again())
		return
	}
	e.Printf("  wait    %s -wait 10m\n", a.again())
	e.Printf("  break   kasbah lock break %s -env %s -why \"…\"     only if that run is dead\n", ledger.ShortRun(h.Run), a.env)
}

func lockBreakCommand() *command {
	var why string
	return &command{
		name: "lock break", line: "take the lock away from a run that is dead", args: "RUN", common: true,
		examples: [2]string{`kasbah lock break Q5T8ZK4B -why "the machine lost power"`, `kasbah lock break Q5T8ZK4B -env live -why "its terminal is gone"`},
		flags:    func(fs *flag.FlagSet) { fs.StringVar(&why, "why", "", "the `reason`, for the ledger; required") },
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return problem.Usage("lock break wants one run")
			}
			if why == "" {
				return problem.Usage("lock break wants a reason: -why \"…\"")
			}
			p, states, err := a.openStates(ctx, nil)
			if err != nil {
				return err
			}
			var ids []string
			for _, s := range states {
				for id := range s.Open {
					ids = append(ids, id)
				}
			}
			run, err := ledger.FindRun(ids, args[0])
			if err != nil {
				return err
			}
			for _, w := range p.Wards {
				if states[w].Open[run] == nil {
					continue
				}
				if err := p.Ledgers[w].Break(ctx, run, why, ""); err != nil {
					return err
				}
				a.out().Printf("%s: the lock of run %s is broken.\n", w, ledger.ShortRun(run))
			}
			return nil
		},
	}
}

func lockRecoverCommand() *command {
	var made listFlag
	var f enactFlags
	return &command{
		name: "lock recover", line: "find out about the unfinished calls of a dead run", args: "RUN", common: true,
		examples: [2]string{"kasbah lock recover Q5T8ZK4B", "kasbah lock recover Q5T8ZK4B -made medina.machine/gauge=mac-0012"},
		flags: func(fs *flag.FlagSet) {
			fs.Var(&made, "made", "what a person knows, as `address=id` or address=none; may be given again")
			fs.DurationVar(&f.wait, "wait", 0, "wait for the lock, such as 10m")
			fs.BoolVar(&f.breakStale, "break-stale", false, "take the lock from a run that is dead")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return problem.Usage("lock recover wants one run")
			}
			known := map[string]string{}
			for _, m := range made {
				address, id, ok := strings.Cut(m, "=")
				if !ok || id == "" {
					return problem.Usage("-made wants address=id or address=none, not %q", m)
				}
				known[address] = id
			}
			p, states, err := a.openStates(ctx, nil)
			if err != nil {
				return err
			}
			var ids []string
			for _, w := range p.Wards {
				for _, in := range states[w].Unresolved() {
					ids = append(ids, in.Run)
				}
				for id := range states[w].Open {
					ids = append(ids, id)
				}
			}
			run, err := ledger.FindRun(ids, args[0])
			if err != nil {
				return err
			}
			addresses := map[string][]string{}
			scopes := map[string]ledger.Scope{}
			for _, w := range p.Wards {
				if open := states[w].Open[run]; open != nil {
					scopes[w] = open.Begin.Scope
					continue
				}
				for _, in := range states[w].Intents {
					if in.Run == run {
						addresses[w] = append(addresses[w], in.Intent.Address)
					}
				}
			}
			maps.Copy(scopes, enact.ScopesOf(addresses))
			r, err := enact.Recover(ctx, scopes, known, p.EnactOptions(ctx, f.run(a)))
			if err != nil {
				return err
			}
			for _, full := range r.Recovered {
				a.out().Printf("%s: found out about\n", full)
			}
			fmt.Fprintf(a.buffer, "%s resolved.\n", render.Count(len(r.Recovered), "call"))
			return nil
		},
	}
}
