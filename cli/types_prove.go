package cli

import (
	"context"
	"errors"
	"fmt"

	"kasbah/core/driver"
	"kasbah/drivers/conformance"
	"kasbah/exit"
	"kasbah/render"
	"kasbah/session"
)

// proveDriver runs the conformance suite on one type of a driver, named DRIVER.TYPE,
// or DRIVER where it has one type.
func (a *app) proveDriver(ctx context.Context, s *session.Session, name, samplePath string) error {
	drv, t, err := s.TypeToProve(name)
	if err != nil {
		return err
	}
	if samplePath != "" {
		samplePath = a.path(samplePath)
	}
	sample, err := conformance.SampleOf(t, samplePath)
	if err != nil {
		return err
	}
	question := fmt.Sprintf("This makes things of type %s.%s and deletes them again. Go on?", drv, t.Name)
	if err := a.consentTo(ctx, question); err != nil {
		return err
	}
	d, left := conformance.Prove(ctx, drv, s.Drivers[drv], sample, func(c driver.ProofCheck) error {
		a.out().ProofCheck(c)
		return a.flush()
	})
	if d == nil {
		return left
	}
	if err := show(a, d, func(o *render.Out, d *driver.Proof) {
		o.Printf("\n%d passed, %d failed, %d skipped.\n", d.Passed, d.Failed, d.Skipped)
	}); err != nil || left != nil {
		return errors.Join(err, left)
	}
	if d.Failed > 0 {
		return exit.Error(exit.Failed)
	}
	return ctx.Err()
}
