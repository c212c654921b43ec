package cli

import (
	"context"
	"flag"

	"kasbah/core/alert"
	"kasbah/exit"
	"kasbah/render"
)

// onAlerts is the Run of a command that looks at the alerts of an environment.
func onAlerts(all *bool, run func(a *app, list *alert.List, args []string) error) func(context.Context, *app, []string) error {
	return func(ctx context.Context, a *app, args []string) error {
		s, err := a.open(ctx, nil)
		if err != nil {
			return err
		}
		list, err := s.Alerts(ctx, *all)
		if err != nil {
			return err
		}
		return run(a, list, args)
	}
}

func alertsCommand() *command {
	var all, exitCode bool
	return &command{
		Name: "alerts", Short: "list what surveys have found", Estate: true, Takes: exactly(0, ""),
		Long:     "Lists the alerts that watchers keep, open ones first, and when each ward was surveyed last.",
		Examples: [2]string{"kasbah alerts -env live", "kasbah alerts -all -json"},
		Flags: func(fs *flag.FlagSet) {
			fs.BoolVar(&all, "all", false, "list resolved alerts as well, of the last 30 days")
			fs.BoolVar(&exitCode, "exit-code", false, "end with 3 when an alert is open")
		},
		Run: onAlerts(&all, func(a *app, list *alert.List, _ []string) error {
			err := show(a, list, (*render.Out).Alerts)
			if err == nil && exitCode && list.Waiting() {
				return exit.ErrDifferent
			}
			return err
		}),
	}
}

func alertsShowCommand() *command {
	all := true
	return &command{
		Name: "alerts show", Short: "show one alert", Args: "ID", Estate: true, Takes: exactly(1, "the id of an alert"),
		Examples: [2]string{"kasbah alerts show k7d2m9qx -env live", "kasbah alerts show k7d -json"},
		Run: onAlerts(&all, func(a *app, list *alert.List, args []string) error {
			one, err := list.Alert(args[0])
			if err != nil {
				return err
			}
			list.Alerts = []*alert.Alert{one}
			return show(a, list, (*render.Out).Alert)
		}),
	}
}

func alertsAcknowledgeCommand() *command {
	var why, until string
	return &command{
		Name: "alerts acknowledge", Short: "say that you know of alerts", Args: "ID…", Estate: true,
		Long:     "An acknowledged alert that changes, or whose last day is over, opens again. One that is found no more is resolved by itself.",
		Examples: [2]string{"kasbah alerts acknowledge k7d2m9qx -why storm -env live", "kasbah alerts acknowledge k7d m3p -why storm -until 2026-12-31"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&why, "why", "", "the `reason`, which is needed")
			fs.StringVar(&until, "until", "", "the last `day` for which it holds, such as 2026-12-31")
		},
		Takes: atLeast(1, "the ids of alerts"),
		Run: func(ctx context.Context, a *app, args []string) error {
			if err := checkUntil("-until", until, "alerts acknowledge", why); err != nil {
				return err
			}
			s, err := a.open(ctx, nil)
			if err != nil {
				return err
			}
			done, err := s.Acknowledge(ctx, args, alert.Ack{Why: why, Until: until}, a.typed)
			if err != nil {
				return err
			}
			return show(a, done, (*render.Out).Acknowledged)
		},
	}
}
