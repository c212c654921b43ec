package cli

import (
	"context"
	"flag"
	"strings"

	"kasbah/collector"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/medina"
)

func medinaServeCommand() *command {
	var o medina.Options
	var address string
	var plain, open bool
	var habits string
	return &command{
		Name: "medina serve", Short: "run the simulated cloud on its own, with a console to look at", Estate: true,
		Long: "Runs the simulated cloud with an HTTP API and a console in the browser, until it is " +
			"interrupted. With TLS and tokens unless -plain and -open say otherwise.",
		Examples: [2]string{"kasbah medina serve -address 127.0.0.1:7711",
			"kasbah medina serve -path coast.db -pace 0.1 -plain -open"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&address, "address", "127.0.0.1:7711", "listen at this `host:port`")
			fs.StringVar(&o.Path, "path", "", "the database `file`; in an estate its embedded Medina's, else medina.db")
			fs.Float64Var(&o.Pace, "pace", 0.05, "a `number` from 0 (immediate) to 1 (realistic times)")
			fs.Float64Var(&o.Rate, "rate", 0, "the most requests a `second`; 0 for no limit")
			fs.StringVar(&habits, "habits", "",
				"behave like other clouds: `names` with commas between them, of "+strings.Join(medina.Habits, ", "))
			fs.BoolVar(&plain, "plain", false, "without TLS")
			fs.BoolVar(&open, "open", false, "without tokens: whoever reaches it may do all")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if len(args) > 0 || o.Pace < 0 || o.Pace > 1 || o.Rate < 0 {
				return problem.Usage("medina serve takes no arguments, -pace lies between 0 and 1, and -rate is no " +
					"less than 0")
			}
			if habits != "" {
				o.Habits = strings.Split(habits, ",")
			}
			if err := medina.CheckHabits(o.Habits); err != nil {
				return problem.Usage("-habits: %v", err)
			}
			path, err := a.medinaPath(ctx, o.Path)
			if err != nil {
				return err
			}
			o.Path, o.Tokens = path, !open
			collector.Steady()
			return medina.Serve(ctx, address, plain, o, func(facts [][]string) error {
				a.out().Table(facts, nil)
				return a.flush()
			})
		},
	}
}

// medinaPath is the database that medina serve works on.
func (a *app) medinaPath(ctx context.Context, given string) (string, error) {
	if given != "" {
		return a.path(given), nil
	}
	if _, err := estate.Find(a.dir); err != nil {
		return a.path("medina.db"), nil
	}
	s, err := a.open(ctx, nil)
	if err != nil {
		return "", err
	}
	at, err := s.Medina(ctx, "")
	if err == nil && at.API != "embedded" {
		return a.path("medina.db"), nil
	}
	return at.Path, err
}
