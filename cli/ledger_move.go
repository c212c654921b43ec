package cli

import (
	"context"
	"errors"
	"flag"
	"strconv"
	"strings"

	"github.com/oklog/ulid/v2"

	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/value"
	"kasbah/render"
)

func ledgerMoveCommand() *command {
	var to listFlag
	var why string
	return &command{
		Name: "ledger move", Short: "move an environment's ledgers into another store", Args: "", Estate: true,
		Long: "Copies the ledgers of an environment into another store, checks the copies, and closes the " +
			"old place. Then change [ledger] in kasbah.toml.",
		Examples: [2]string{`kasbah ledger move -env live -to store=postgres -to 'dsn={env="LEDGER_DSN"}'`,
			"kasbah ledger move -to store=file -to path=.kasbah/ledger"},
		Flags: func(fs *flag.FlagSet) {
			fs.Var(&to, "to", "a `key=value` of [ledger] as it is to be; give each")
			fs.StringVar(&why, "why", "", "the `reason`, for the history")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) > 0 || len(to) == 0 {
				return problem.Usage("ledger move needs the new [ledger], such as -to store=postgres -to dsn=…")
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
			return problem.Usage("-to must be key=value, not %q", pair)
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
		return problem.Usage("-to needs the kind of store as well, such as -to store=postgres")
	case errors.As(err, &wrong): // it was typed, and stands in no file
		return &problem.UsageError{Message: "-to: " + wrong.Message, Hint: wrong.Hint}
	case err != nil:
		return err
	}
	p.CloseLater(st.Close)
	called, _ := settings["store"].(string)
	var ledgers []*ledger.Ledger
	for _, w := range p.Wards {
		ledgers = append(ledgers, p.Ledgers[w])
	}
	done, err := ledger.MoveAll(ctx, ledgers, st, called, ledger.BeginOptions{ID: ulid.Make().String(),
		Command: a.typed, Reason: why})
	if err != nil {
		return err
	}
	if done.Env = p.Env; a.json {
		return a.document(done)
	}
	a.out().Printf("%s of %s copied and proven: %s. The old place is closed.\n", render.Entries(done.Entries), p.Env,
		strings.Join(done.Wards, ", "))
	a.out().Printf("Now change kasbah.toml, in every copy of it:\n\n[env.%s.ledger]   # or [ledger], for all "+
		"environments\n", p.Env)
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
