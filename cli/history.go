package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/oklog/ulid/v2"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
	"kasbah/render"
	"kasbah/session"
)

func ledgerCompareCommand() *command {
	var ward string
	return &command{
		name: "ledger compare", line: "what is recorded differently at two moments, or in two environments", args: "A [B]", common: true,
		examples: [2]string{"kasbah ledger compare 14 -ward shore", "kasbah ledger compare trial live"},
		flags: func(fs *flag.FlagSet) {
			fs.StringVar(&ward, "ward", "", "only this `ward`; needed with entries when there are several")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) < 1 || len(args) > 2 {
				return problem.Usage("ledger compare wants an entry (then and now), two entries, or two environments")
			}
			return a.ledgerCompare(ctx, args, ward)
		},
	}
}

func (a *app) ledgerCompare(ctx context.Context, args []string, ward string) error {
	var wards []string
	if ward != "" {
		wards = []string{ward}
	}
	e, err := session.FindEstate(a.dir)
	if err != nil {
		return err
	}
	doc := render.CompareDocument{Format: "kasbah.compare/1", Wards: []render.CompareWard{}}
	if len(args) == 2 && e.HasEnvironment(args[0]) && e.HasEnvironment(args[1]) {
		var sides [2]*session.Session
		for i, env := range args {
			if sides[i], err = a.openWith(ctx, a.config(env, wards)); err != nil {
				return err
			}
		}
		doc.A, doc.B = args[0], args[1]
		for _, w := range sides[0].Wards {
			was, err := sides[0].Ledgers[w].Load(ctx)
			if err != nil {
				return err
			}
			now, err := sides[1].Ledgers[w].Load(ctx)
			if err != nil {
				return err
			}
			if err := doc.Add(w, was, now); err != nil {
				return err
			}
		}
		return a.tellCompare(doc)
	}
	var at [2]int64
	for i, arg := range args {
		if at[i], err = strconv.ParseInt(arg, 10, 64); err != nil || at[i] < 1 {
			return &problem.UsageError{Message: fmt.Sprintf("%q is no entry, and no environment beside another one", arg), Hint: nearest.Hint(arg, e.Environments())}
		}
	}
	p, err := a.open(ctx, wards)
	if err != nil {
		return err
	}
	if len(p.Wards) > 1 {
		return problem.Usage("entries count from 1 in each ward; say which with -ward")
	}
	doc.A, doc.B = "entry "+args[0], "now"
	if len(args) == 2 {
		doc.B = "entry " + args[1]
	}
	was, err := p.At(ctx, p.Wards[0], at[0])
	if err != nil {
		return err
	}
	now, err := p.At(ctx, p.Wards[0], at[1])
	if err != nil {
		return err
	}
	if err := doc.Add(p.Wards[0], was, now); err != nil {
		return err
	}
	return a.tellCompare(doc)
}

func (a *app) tellCompare(doc render.CompareDocument) error {
	if a.json {
		return a.document(doc)
	}
	a.out().Compare(doc)
	return nil
}

func ledgerExportCommand() *command {
	return &command{
		name: "ledger export", line: "write all that is recorded as one JSON document, without secrets", args: "[WARD…]", common: true,
		examples: [2]string{"kasbah ledger export > recorded.json", "kasbah ledger export shore -env live"},
		run: func(ctx context.Context, a *app, args []string) error {
			p, states, err := a.openStates(ctx, args)
			if err != nil {
				return err
			}
			doc := render.ExportDocument{Format: "kasbah.export/1", Estate: p.Estate.Name, Env: p.Env, Wards: []render.ExportWard{}}
			for _, w := range p.Wards {
				s := states[w]
				one := render.ExportWard{Ward: w, Entry: s.Seq, Hash: s.Hash, Published: s.Published, Reads: s.Reads, Resources: []*ledger.Record{}}
				for _, address := range s.Addresses() {
					r, err := s.Records[address].Record()
					if err != nil {
						return err
					}
					one.Resources = append(one.Resources, r.Shown())
				}
				doc.Wards = append(doc.Wards, one)
			}
			return a.document(doc)
		},
	}
}

func ledgerReleaseCommand() *command {
	var f enactFlags
	return &command{
		name: "ledger release", line: "stop managing resources without touching them in the cloud", args: "ADDRESS…", common: true,
		examples: [2]string{"kasbah ledger release medina.bucket/charts -why \"another team has it now\"", "kasbah ledger release 'shore:medina.machine/*' -yes"},
		flags: func(fs *flag.FlagSet) {
			f.registerRun(fs)
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) == 0 {
				return problem.Usage("ledger release wants addresses, or patterns of them")
			}
			return a.ledgerRelease(ctx, args, f)
		},
	}
}

func (a *app) ledgerRelease(ctx context.Context, patterns []string, f enactFlags) error {
	p, states, err := a.openStates(ctx, nil)
	if err != nil {
		return err
	}
	var chosen, known []string
	for _, pattern := range patterns {
		match, hit := propose.Pattern(pattern), false
		for _, w := range p.Wards {
			for _, address := range states[w].Addresses() {
				full := value.InWard(w, address)
				known = append(known, address)
				if match(address) || match(full) {
					hit = true
					if !slices.Contains(chosen, full) {
						chosen = append(chosen, full)
					}
				}
			}
		}
		if !hit {
			_, short := value.SplitWard(pattern)
			return &problem.UsageError{Message: pattern + " is not recorded", Hint: nearest.Hint(short, known)}
		}
	}
	if err := a.consentTo(ctx, fmt.Sprintf("Release %s? They stay in the cloud, and nothing here manages them any more.", strings.Join(chosen, ", "))); err != nil {
		return err
	}
	o := p.EnactOptions(ctx, f.run(a))
	if err := enact.Release(ctx, chosen, o); err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{"format": "kasbah.release/1", "run": o.Run, "released": chosen})
	}
	a.out().Printf("%s released. Run %s.\nWhat is still declared would be made anew: take it out of the declarations.\n", render.Count(len(chosen), "resource"), ledger.ShortRun(o.Run))
	return nil
}

func ledgerPruneCommand() *command {
	var keep int64
	var why string
	return &command{
		name: "ledger prune", line: "take the oldest entries away for good; what is recorded stays", args: "[WARD…]", common: true,
		examples: [2]string{"kasbah ledger prune -keep 5000", "kasbah ledger prune shore -env trial -keep 0 -yes"},
		flags: func(fs *flag.FlagSet) {
			fs.Int64Var(&keep, "keep", 1000, "keep so many of the newest `entries`")
			fs.StringVar(&why, "why", "", "the `reason`, for the history")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if keep < 0 {
				return problem.Usage("-keep is a number of entries")
			}
			p, err := a.open(ctx, args)
			if err != nil {
				return err
			}
			if err := a.consentTo(ctx, "Prune the history of "+strings.Join(p.Wards, ", ")+"? It cannot be had back."); err != nil {
				return err
			}
			type pruned struct {
				Ward string `json:"ward"`
				UpTo int64  `json:"up_to"`
			}
			doc := struct {
				Format string   `json:"format"`
				Wards  []pruned `json:"wards"`
			}{"kasbah.prune/1", []pruned{}}
			for _, w := range p.Wards {
				upTo, err := p.Ledgers[w].Prune(ctx, keep, ledger.BeginOptions{ID: ulid.Make().String(), Command: a.typed, Reason: why})
				if err != nil {
					return err
				}
				doc.Wards = append(doc.Wards, pruned{w, upTo})
				switch {
				case a.json:
				case upTo == 0:
					a.out().Printf("%s, %s: nothing to prune. Entries are pruned up to the older of two checkpoints, which are written as the log grows.\n", w, p.Env)
				default:
					a.out().Printf("%s, %s: entries 1 to %d are gone.\n", w, p.Env, upTo)
				}
			}
			if a.json {
				return a.document(doc)
			}
			return nil
		},
	}
}

func ledgerMoveCommand() *command {
	var to listFlag
	var why string
	return &command{
		name: "ledger move", line: "move an environment's ledgers into another store", args: "", common: true,
		examples: [2]string{`kasbah ledger move -env live -to store=postgres -to 'dsn={env="LEDGER_DSN"}'`, "kasbah ledger move -to store=file -to path=.kasbah/ledger"},
		flags: func(fs *flag.FlagSet) {
			fs.Var(&to, "to", "a `key=value` of [ledger] as it is to be; give each")
			fs.StringVar(&why, "why", "", "the `reason`, for the history")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) > 0 || len(to) == 0 {
				return problem.Usage("ledger move wants the new [ledger], such as -to store=postgres -to dsn=…")
			}
			return a.ledgerMove(ctx, to, why)
		},
	}
}

func (a *app) ledgerMove(ctx context.Context, to []string, why string) error {
	settings := value.Map{}
	for _, pair := range to {
		k, v, ok := strings.Cut(pair, "=")
		if !ok {
			return problem.Usage("-to wants key=value, not %q", pair)
		}
		settings[k] = value.Typed(v)
	}
	p, err := a.open(ctx, nil)
	if err != nil {
		return err
	}
	st, err := p.OpenStore(ctx, settings)
	var wrong *problem.Problem
	switch {
	case settings["store"] == nil:
		return problem.Usage("-to wants the kind of store as well, such as -to store=postgres")
	case errors.As(err, &wrong): // it was typed, and stands in no file
		return &problem.UsageError{Message: "-to: " + wrong.Message, Hint: wrong.Hint}
	case err != nil:
		return err
	}
	p.CloseLater(st.Close)
	called, _ := settings["store"].(string)
	run := ulid.Make().String()
	var moving []*ledger.Moving
	var wards []string
	total := int64(0)
	for _, w := range slices.Sorted(slices.Values(p.Wards)) {
		m, err := p.Ledgers[w].Move(ctx, st, ledger.BeginOptions{ID: run, Command: a.typed, Reason: why})
		var moved *ledger.MovedError
		if errors.As(err, &moved) && moved.To == called {
			continue // an earlier move ended between two wards
		}
		if err != nil {
			for _, other := range moving {
				err = errors.Join(err, other.Abort(ctx))
			}
			return err
		}
		moving, wards, total = append(moving, m), append(wards, w), total+m.Entries
	}
	for _, m := range moving {
		if err := m.Finish(ctx, called); err != nil {
			return err
		}
	}
	if a.json {
		return a.document(map[string]any{"format": "kasbah.move/1", "run": run, "env": p.Env, "wards": append([]string{}, wards...), "store": called, "entries": total})
	}
	a.out().Printf("%s of %s copied and proven: %s. The old place is closed.\n", render.Entries(total), p.Env, strings.Join(wards, ", "))
	a.out().Printf("Change kasbah.toml now, and everybody's copy of it:\n\n[env.%s.ledger]   # or [ledger], for all environments\n", p.Env)
	for _, k := range value.Keys(settings) {
		a.out().Printf("%s = %s\n", k, render.Clean(tomlText(settings[k])))
	}
	return nil
}

// tomlText writes a setting as TOML.
func tomlText(v any) string {
	switch v := v.(type) {
	case string:
		return strconv.Quote(v)
	case []any:
		var all []string
		for _, x := range v {
			all = append(all, tomlText(x))
		}
		return "[" + strings.Join(all, ", ") + "]"
	case map[string]any:
		var all []string
		for _, k := range value.Keys(v) {
			all = append(all, k+" = "+tomlText(v[k]))
		}
		return "{ " + strings.Join(all, ", ") + " }"
	}
	return value.Plain(v)
}
