// Package drivertest runs the conformance suite of drivers as tests.
package drivertest

import (
	"context"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/drivers/conformance"
)

// Run runs the suite on a cloud in which what the sample needs is there.
func Run(t *testing.T, d driver.Driver, s conformance.Sample) {
	ctx := context.Background()
	x, err := conformance.New(ctx, d, s)
	require.NoError(t, err)
	for _, c := range conformance.Checks() {
		t.Run(c.Name, func(t *testing.T) {
			err := x.Run(ctx, c)
			if errors.Is(err, conformance.ErrSkipped) {
				t.Skip(err)
			}
			require.NoError(t, err, c.Says)
		})
	}
	require.NoError(t, x.Clean(ctx))
}
