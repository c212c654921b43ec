package cli

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"time"

	"kasbah/core/problem"
	"kasbah/medina"
	"kasbah/render"
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
		return show(a, faultsDocument{"kasbah.faults/1", list}, drawFaults)
	})
}

func drawFaults(o *render.Out, d faultsDocument) {
	var rows [][]string
	if len(d.Items) == 0 {
		o.Printf("Medina makes no faults on demand. It can:\n")
		for _, k := range medina.FaultKinds {
			rows = append(rows, []string{"  " + k.Name, k.Help})
		}
		o.Table(rows, nil)
		return
	}
	for _, x := range d.Items {
		wait := ""
		if x.Kind == "delay" || x.Kind == "throttle" {
			wait = (time.Duration(x.Millis) * time.Millisecond).String()
		}
		rows = append(rows, []string{x.Kind, cmp.Or(x.On, "any"), cmp.Or(x.Type, "any"), fmt.Sprint(x.After),
			fmt.Sprint(x.Times), wait})
	}
	o.Listing([]string{"fault", "at", "type", "after", "calls", "for"}, rows, "")
}
