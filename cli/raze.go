package cli

import (
	"context"
	"errors"
	"flag"

	"kasbah/session"
)

func razeCommand() *command {
	var f enactFlags
	var ended bool
	return &command{
		Name: "raze", Short: "remove everything in the wards", Args: "[WARD…]", Estate: true, Lines: true,
		Long: "Proposes to drop every resource of the wards, and asks for the wards' names before it does. " +
			"Guarded resources, and those that another ward uses, are refused. -ended does it in each " +
			"environment whose time is over, as ends in kasbah.toml says.",
		Examples: [2]string{"kasbah raze shore -env trial", "kasbah raze -ended -yes -allow data"},
		Flags: func(fs *flag.FlagSet) {
			f.register(fs)
			fs.BoolVar(&ended, "ended", false, "raze every environment whose time is over, or the one that -env names if it is")
			fs.BoolVar(&f.full, "full", false, "list every action, even identical ones")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			if err := f.check(); err != nil {
				return err
			}
			f.Raze = true
			if ended {
				return a.razeEnded(ctx, f, args)
			}
			return a.enactWards(ctx, f, args)
		},
	}
}

// razeEnded razes the environments whose time is over. One that fails keeps no other one back.
func (a *app) razeEnded(ctx context.Context, f enactFlags, wards []string) error {
	envs, err := session.Ended(ctx, a.config(a.env, nil))
	if err != nil {
		return err
	}
	if len(envs) == 0 {
		a.say("No environment's time is over.")
	}
	var errs []error
	for _, env := range envs {
		a.env = env
		a.say("The time of %s is over.", env)
		errs = append(errs, a.enactWards(ctx, f, wards))
	}
	return errors.Join(errs...)
}
