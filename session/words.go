package session

import (
	"context"
	"os"
	"slices"
	"strings"
	"time"

	"kasbah/complete"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/value"
	"kasbah/medina"
)

// Words gives the words of an estate to those who type in a shell: from its files, from what the last
// proposal knew, and from ledgers on this machine. It asks nothing over a network.
func Words(ctx context.Context, c Config) complete.Source {
	return func(kind complete.Kind, g complete.Given) []complete.Word {
		w := words{ctx: ctx, c: c}
		if g.Dir != "" {
			w.c.Dir = g.Dir
		}
		if w.e, _ = FindEstate(w.c.Dir); w.e == nil { // outside of an estate there is nothing to name
			return nil
		}
		if w.c.Env = g.Env; w.c.Env == "" {
			if w.c.Env = os.Getenv("KASBAH_ENV"); w.c.Env == "" && len(w.e.Environments()) > 0 {
				w.c.Env = w.e.Environments()[0]
			}
		}
		return w.of(kind, g)
	}
}

type words struct {
	ctx context.Context
	c   Config
	e   *estate.Estate
}

// made are the environments that patterns made, where that can be told without a network.
func (w *words) made() []string {
	if len(w.e.Patterns()) == 0 || w.e.Ledger("")["store"] != "file" {
		return nil
	}
	all, err := existing(w.ctx, w.c, w.e)
	if err != nil {
		return nil
	}
	return slices.DeleteFunc(all, func(env string) bool { return !w.e.Made(env) })
}

func (w *words) of(kind complete.Kind, g complete.Given) []complete.Word {
	switch kind {
	case complete.Environments:
		return named(append(w.e.Environments(), w.made()...))
	case complete.Wards:
		return named(w.e.Wards)
	case complete.Drivers:
		return named(w.e.Drivers())
	case complete.Kits:
		var out []complete.Word
		kits := w.e.Kits(w.c.Env)
		for _, name := range value.Keys(kits) {
			out = append(out, complete.Word{Text: name, About: kits[name].String()})
		}
		return out
	case complete.Inputs:
		var out []complete.Word
		for _, in := range w.e.Inputs(w.c.Env) {
			out = append(out, complete.Word{Text: in.Name + "=", About: in.Source})
		}
		return out
	case complete.Addresses:
		return w.addresses(g.Typed)
	case complete.Things:
		return w.things(g.Args)
	case complete.ThingTypes:
		return w.thingTypes()
	}
	return w.opened(kind, g.Args)
}

func named(list []string) []complete.Word {
	var out []complete.Word
	for _, name := range list {
		out = append(out, complete.Word{Text: name})
	}
	return out
}

// addresses are those that the last proposal knew and that begin as what is typed does. Without a proposal
// they are those that the files declare, of one ward: its name comes first then.
func (w *words) addresses(typed string) []complete.Word {
	var out []complete.Word
	if lines := knownLines(w.e.Dir, w.c.Env); lines != nil {
		for line := range strings.Lines(string(lines)) {
			if strings.HasPrefix(line, typed) {
				address, action, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
				out = append(out, complete.Word{Text: address, About: action})
			}
		}
		return out
	}
	ward, _ := value.SplitWard(typed)
	if len(w.e.Wards) == 1 {
		ward = w.e.Wards[0]
	}
	if ward == "" {
		for _, name := range w.e.Wards {
			out = append(out, complete.Word{Text: name + ":", About: "addresses of the ward"})
		}
		return out
	}
	return w.declared(ward)
}

// declared are the addresses that a ward declares. What it reads of others that were never enacted takes
// all wards.
func (w *words) declared(ward string) []complete.Word {
	for _, wards := range [][]string{{ward}, nil} {
		w.c.Wards = wards
		s, err := Open(w.ctx, w.c)
		if err != nil {
			if s != nil {
				_ = s.Close() // a shell has no use for the reason
			}
			return nil
		}
		e, err := s.Evaluate(w.ctx, s.Others())
		_ = s.Close()
		if err != nil || e.Problems.Wrong() > 0 && wards != nil {
			continue
		}
		var out []complete.Word
		for _, r := range e.Declared.Resources {
			if r.Ward == ward {
				out = append(out, complete.Word{Text: r.Full()})
			}
		}
		return out
	}
	return nil
}

// thingTypes are Medina's types.
func (w *words) thingTypes() []complete.Word {
	c, err := medina.Describe(w.ctx)
	if err != nil {
		return nil
	}
	return named(c.Names())
}

// things are Medina's things of a type: those that an embedded one keeps in its file.
func (w *words) things(args []string) []complete.Word {
	if len(args) == 0 {
		return nil
	}
	for _, name := range w.e.Drivers() {
		set := w.e.Driver(name, w.c.Env)
		if set["kind"] != "medina" {
			continue
		}
		settings, err := medina.ReadSettings(set, w.e.Dir)
		if err != nil || settings.API != "embedded" {
			return nil
		}
		if _, err := os.Stat(settings.Path); err != nil {
			return nil
		}
		var out []complete.Word
		things, err := medina.Names(w.ctx, settings.Path, args[0])
		if err != nil {
			return nil
		}
		for _, t := range things {
			out = append(out, complete.Word{Text: t.ID, About: t.Name})
		}
		return out
	}
	return nil
}

// patience is how long a shell waits for what is not kept at hand.
const patience = 300 * time.Millisecond

// opened are the words for which the estate is opened.
func (w *words) opened(kind complete.Kind, args []string) []complete.Word {
	ctx, cancel := context.WithTimeout(w.ctx, patience)
	defer cancel()
	w.c.Lenient = true
	s, err := Open(ctx, w.c)
	if s != nil {
		defer s.Close()
	}
	if err != nil {
		return nil
	}
	var out []complete.Word
	if kind == complete.Types {
		for _, drv := range value.Keys(s.Catalogs) {
			for _, name := range s.Catalogs[drv].Names() {
				out = append(out, complete.Word{Text: drv + "." + name, About: s.Catalogs[drv].Types[name].Help})
			}
		}
		return out
	}
	if w.e.Ledger(w.c.Env)["store"] != "file" && w.e.Ledger(w.c.Env)["store"] != nil { // it may be far away
		return nil
	}
	switch kind {
	case complete.Runs:
		log, err := s.Log(ctx, nil, 20, false)
		if err != nil {
			return nil
		}
		for _, r := range log.Runs {
			out = append(out, complete.Word{Text: ledger.ShortRun(r.Run),
				About: strings.TrimSpace(r.Command + ", " + r.Outcome)})
		}
	case complete.Alerts:
		list, err := s.Alerts(ctx, false)
		if err != nil {
			return nil
		}
		for _, a := range list.Alerts {
			out = append(out, complete.Word{Text: a.ID, About: a.Finding.Subject()})
		}
	case complete.Published:
		if len(args) == 0 || s.Ledgers[args[0]] == nil {
			return nil
		}
		st, err := s.Ledgers[args[0]].Load(ctx)
		if err != nil {
			return nil
		}
		for _, name := range value.Keys(map[string]any(st.Published)) {
			out = append(out, complete.Word{Text: name})
		}
	}
	return out
}
