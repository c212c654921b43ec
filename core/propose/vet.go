package propose

import (
	"context"

	"golang.org/x/sync/errgroup"

	"kasbah/core/declare"
	"kasbah/core/driver"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// vetAtOnce is how many resources a driver is asked about at a time.
const vetAtOnce = 16

// vet asks the drivers that can tell what is wrong with what would be sent to them.
// They are not told what is secret, nor what is not known yet.
func (w *proposer) vet(ctx context.Context) error {
	said := make([][]driver.Problem, len(w.declared))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(vetAtOnce)
	for n, d := range w.declared {
		v, a := w.o.Vetters[d.Driver], w.actions[n]
		if v == nil || a == nil || a.Plan == nil || a.Kind != New && a.Kind != Edit && a.Kind != Swap {
			continue
		}
		g.Go(func() error {
			said[n] = v.Vet(ctx, d.Type.Name, known(value.Map(a.Plan.Inputs)))
			return ctx.Err()
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	var out problem.List
	for n, d := range w.declared {
		for _, p := range said[n] {
			out = append(out, refusedAt(d, p))
		}
	}
	out.Sort()
	return out.Err()
}

func refusedAt(d *declare.Resource, p driver.Problem) *problem.Problem {
	at, via := d.At(p.Path)
	return &problem.Problem{Level: problem.Wrong, Position: at, Via: via, Ward: d.Ward, Address: d.Address,
		Path: p.Path, Message: p.Message}
}

// known are the inputs without those that hold a pending value.
func known(inputs value.Map) value.Map {
	out := make(value.Map, len(inputs))
	for name, v := range inputs {
		if !value.IsPending(v) {
			out[name] = v
		}
	}
	return out
}
