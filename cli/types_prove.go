package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/drivers/conformance"
	"kasbah/render"
	"kasbah/session"
)

// proveDriver runs the conformance suite on one type of a driver, named DRIVER.TYPE,
// or DRIVER where it has one type.
func (a *app) proveDriver(ctx context.Context, p *session.Session, name, samplePath string) error {
	drv, typ, _ := strings.Cut(name, ".")
	c, err := p.Driver(drv)
	if err != nil {
		return err
	}
	if typ == "" && len(c.Types) == 1 {
		typ = c.Names()[0]
	}
	t := c.Types[typ]
	if t == nil {
		return &problem.UsageError{Message: fmt.Sprintf("-prove takes a type of %s, such as %s.%s", drv, drv,
			c.Names()[0]), Hint: nearest.Hint(typ, c.Names())}
	}
	if samplePath != "" {
		samplePath = a.path(samplePath)
	}
	sample, err := conformance.SampleOf(t, samplePath)
	if err != nil {
		return err
	}
	if err := a.consentTo(ctx, fmt.Sprintf("This makes things of type %s.%s and deletes them again. Go on?", drv,
		typ)); err != nil {
		return err
	}
	suite, err := conformance.New(ctx, p.Drivers[drv], sample)
	if err != nil {
		return err
	}
	d := render.ProofDocument{Format: "kasbah.proof/1", Driver: drv, Type: typ, Checks: []render.ProofCheck{}}
	for _, check := range conformance.Checks() {
		out := render.ProofCheck{Name: check.Name, Says: check.Says, Outcome: "passed"}
		err := suite.Run(ctx, check)
		switch {
		case errors.Is(err, conformance.ErrSkipped):
			out.Outcome, out.Error = "skipped", strings.TrimPrefix(err.Error(), conformance.ErrSkipped.Error()+": ")
			d.Skipped++
		case err != nil:
			out.Outcome, out.Error = "failed", err.Error()
			d.Failed++
		default:
			d.Passed++
		}
		d.Checks = append(d.Checks, out)
		if !a.json {
			a.out().ProofCheck(out)
			if err := a.flush(); err != nil {
				return err
			}
		}
		if ctx.Err() != nil {
			break
		}
	}
	left := suite.Clean(context.WithoutCancel(ctx))
	if a.json {
		if err := a.document(d); err != nil {
			return err
		}
	} else {
		a.out().Printf("\n%d passed, %d failed, %d skipped.\n", d.Passed, d.Failed, d.Skipped)
	}
	if left != nil {
		return left
	}
	if d.Failed > 0 {
		return exitError(exitFailed)
	}
	return ctx.Err()
}
