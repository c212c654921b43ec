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
			d := render.LockDocument{Format: "kasbah.lock/1", Holders: []render.Holder{}}
			rows := [][]string{render.HolderHead}
			for _, w := range p.wards {
				for _, r := range states[w].Holders() {
					h := render.NewHolder(w, r)
					d.Holders = append(d.Holders, h)
					rows = append(rows, h.Row(time.Now()))
				}
			}
			if a.json {
				return a.document(d)
			}
			if len(rows) == 1 {
				a.out().Printf("Nobody holds a lock in %s.\n", p.env)
			} else {
				a.out().Table(rows, a.out().HeadGrey)
			}
			for _, w := range p.wards {
				for _, in := range states[w].Unresolved() {
					a.out().Printf("%s: the %s of run %s has no result; the next enact finds out, or `kasbah lock recover %s`\n", in.Intent.Address, in.Intent.Call, render.ShortRun(in.Run), render.ShortRun(in.Run))
				}
			}
			return nil
		},
	}
}

// printLocked tells a refused person who holds the lock and what to do.
func (a *app) printLocked(l *ledger.LockedError) {
	e := a.errs()
	h := render.NewHolder(l.Ward, l.Holder)
	e.Printf("refused: %s (%s) is locked\n", l.Ward, a.env)
	if l.Address != "" {
		e.Printf("  at      %s\n", render.Locked(l.Address))
	}
	e.Printf("  by      %s\n", h.Held(time.Now()))
	if l.Dead {
		e.Printf("  but     its process no longer runs\n")
		e.Printf("  go on   %s -break-stale\n", a.again())
		return
	}
	e.Printf("  wait    %s -wait 10m\n", a.again())
	e.Printf("  break   kasbah lock break %s -env %s -why \"…\"     only if that run is dead\n", render.ShortRun(h.Run), a.env)
}

// isRun reports whether a run is called so: by its id, its short form, or how either of them
// begins or ends.
func isRun(id, s string) bool {
	s = strings.ToUpper(s)
	return s == id || s == render.ShortRun(id) || len(s) >= 4 && (strings.HasPrefix(id, s) || strings.HasSuffix(id, s))
}

// findRun finds a run among the project's wards by the start of its id or by
// its short form.
func findRun(ids []string, s string) (string, error) {
	hits := map[string]bool{}
	for _, id := range ids {
		if isRun(id, s) {
			hits[id] = true
		}
	}
	switch len(hits) {
	case 1:
		for id := range hits {
			return id, nil
		}
	case 0:
		return "", &problem.UsageError{Message: "no such run: " + s, Hint: "`kasbah lock` shows the runs that hold a lock"}
	}
	return "", problem.Usage("%s stands for several runs; write more of it", s)
}

func lockBreakCommand() *command {
	var why string
	return &command{
		name: "lock break", line: "take the lock away from a run that is dead", args: "RUN", common: true,
		examples: [2]string{`kasbah lock break 01J9Z2AB -why "the machine lost power"`, `kasbah lock break 01J9Z2AB -env live -why "its terminal is gone"`},
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
			run, err := findRun(ids, args[0])
			if err != nil {
				return err
			}
			for _, w := range p.wards {
				if states[w].Open[run] == nil {
					continue
				}
				if err := p.ledgers[w].Break(ctx, run, why, ""); err != nil {
					return err
				}
				a.out().Printf("%s: the lock of run %s is broken.\n", w, render.ShortRun(run))
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
		examples: [2]string{"kasbah lock recover 01J9Z2AB", "kasbah lock recover 01J9Z2AB -made medina.machine/gauge=mac-0012"},
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
			for _, w := range p.wards {
				for _, in := range states[w].Unresolved() {
					ids = append(ids, in.Run)
				}
				for id := range states[w].Open {
					ids = append(ids, id)
				}
			}
			run, err := findRun(ids, args[0])
			if err != nil {
				return err
			}
			addresses := map[string][]string{}
			scopes := map[string]ledger.Scope{}
			for _, w := range p.wards {
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
			maps.Copy(scopes, scopesOf(addresses))
			r, err := enact.Recover(ctx, scopes, known, a.enactOptions(ctx, p, f))
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
