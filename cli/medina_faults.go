package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"time"

	"kasbah/core/problem"
	"kasbah/medina"
)

// faultsDocument is the JSON form of the faults that Medina is still to make.
type faultsDocument struct {
	Format string         `json:"format"`
	Items  []medina.Fault `json:"items"`
}

func medinaFaultsCommand() *command {
	f := medina.Fault{}
	var clear bool
	var wait time.Duration
	return medinaCommand(command{
		Name: "medina faults", Short: "make the simulated cloud fail on demand, to see how a run copes", Args: "[KIND]",
		Long: "Makes coming calls fail, hang or lose their answers. Without a KIND it lists the faults that " +
			"are waiting.",
		Examples: [2]string{"kasbah medina faults drop-after -on create -type machine", "kasbah medina faults -clear"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&f.On, "on", "", "only at this `call`: create, edit, copy, delete, read or list")
			fs.StringVar(&f.Type, "type", "", "only at things of this `type`")
			fs.IntVar(&f.After, "after", 0, "how many `calls` pass first")
			fs.IntVar(&f.Times, "times", 1, "how many `calls` fail")
			fs.DurationVar(&wait, "for", time.Second, "how long a delay takes, or a throttled call is put off")
			fs.BoolVar(&clear, "clear", false, "forget the faults that were asked for before")
		},
	}, 0, 1,
		func(ctx context.Context, a *app, h *hand, args []string) error {
			var add *medina.Fault
			if len(args) == 1 {
				f.Kind, f.Millis = args[0], wait.Milliseconds()
				add = &f
			}
			list, err := h.at.Faults(ctx, clear, add)
			var wrong medina.Refused
			if errors.As(err, &wrong) {
				return problem.Usage("%v", err)
			}
			if err != nil {
				return err
			}
			if a.json {
				return a.document(faultsDocument{"kasbah.faults/1", list})
			}
			if len(list) == 0 {
				a.out().Printf("Medina makes no faults on demand. It can:\n")
				var rows [][]string
				for _, k := range medina.FaultKinds {
					rows = append(rows, []string{"  " + k.Name, k.Help})
				}
				a.out().Table(rows, nil)
				return nil
			}
			rows := [][]string{{"fault", "at", "type", "after", "calls", "for"}}
			for _, x := range list {
				rows = append(rows, []string{x.Kind, orAny(x.On), orAny(x.Type), fmt.Sprint(x.After),
					fmt.Sprint(x.Times), faultTime(x)})
			}
			a.out().Table(rows, a.out().HeadGrey)
			return nil
		})
}

func orAny(s string) string {
	if s == "" {
		return "any"
	}
	return s
}

func faultTime(f medina.Fault) string {
	if f.Kind != "delay" && f.Kind != "throttle" {
		return ""
	}
	return (time.Duration(f.Millis) * time.Millisecond).String()
}
