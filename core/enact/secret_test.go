package enact_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// TestRecoveredSecret: a call of a dead run is repeated with its secret, and
// what the cloud says of it is recorded and told without.
func TestRecoveredSecret(t *testing.T) {
	ctx := context.Background()
	c := newCoast(t, 1)
	r, err := c.ledger().Begin(ctx, ledger.BeginOptions{ID: "dead"})
	require.NoError(t, err)
	plan := &ledger.Record{Address: "medina.bucket/charts", Type: "medina.bucket",
		Hidden: value.Attributes{"tags": value.Map{"note": "hidden-words"}}}
	in := &ledger.Intent{ID: "1", Address: plan.Address, Type: plan.Type, Action: "new", Call: "create", Key: "k",
		Inputs: value.Attributes{"name": "charts", "tags": value.Map{"note": "hidden-words"}}, Plan: plan}
	require.NoError(t, r.Append(ctx, ledger.Line{Kind: ledger.KindIntent, Intent: in}))
	require.NoError(t, c.ledger().Break(ctx, "dead", "it was killed", ""))
	sent := 0
	f := &faulty{Driver: c.drv, keys: map[string]int{}, before: func(call, _, _ string) error {
		sent++
		return driver.Refuse("hidden-words is not what a note may say")
	}}
	_, err = enact.Recover(ctx, map[string]ledger.Scope{"shore": ledger.Whole}, nil, c.options("recovery", f, c.store))
	require.NoError(t, err)
	require.Equal(t, 1, sent)
	runs, _, err := c.ledger().History(ctx)
	require.NoError(t, err)
	require.Equal(t, "(secret) is not what a note may say", runs[0].Calls[0].Error)
}
