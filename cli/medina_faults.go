package cli

import (
	"context"
	"errors"
	"flag"
	"time"

	"kasbah/core/problem"
	"kasbah/medina"
	"kasbah/render"
)

func medinaFaultsCommand() *command {
	f := medina.Fault{}
	var clear bool
	var wait time.Duration
	return byHand(command{
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
		Takes: atMost(1, "one kind of fault"),
	}, func(ctx context.Context, a *app, h *hand, args []string) error {
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
		return show(a, medina.NewFaultList(list), func(o *render.Out, d *medina.FaultList) {
			if len(list) == 0 {
				o.Printf("Medina makes no faults on demand. It can:\n")
			}
			o.Listing(d.Head(), d.Rows(), "")
		})
	})
}
