package openapi_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
	"kasbah/medina"
)

func TestProbe(t *testing.T) {
	d, err := medina.Settings{API: "embedded", Options: medina.Options{Path: t.TempDir() + "/m.db", Pace: 0.01}}.Driver("keeper-1")
	require.NoError(t, err)
	defer d.Close()
	ctx := context.Background()
	c, err := d.Describe(ctx)
	require.NoError(t, err)
	for _, n := range c.Names() {
		ty := c.Types[n]
		t.Log(n, ty.ID, ty.AttributeNames(), ty.Order(), ty.NamedByPattern())
	}
	n, err := d.Create(ctx, "network", value.Map{"range": "10.0.0.0/16"}, "k1")
	require.NoError(t, err)
	t.Log(n)
	_, err = d.Create(ctx, "subnet", value.Map{"network": n.ID, "range": "11.0.0.0/16"}, "k2")
	t.Logf("%v %#v", err, err)
	s, err := d.Create(ctx, "subnet", value.Map{"network": n.ID, "range": "10.0.1.0/24"}, "k3")
	t.Log(s, err)
	for l, err := range d.List(ctx, "subnet") {
		t.Log(l, err)
	}
	t.Log(d.Delete(ctx, "network", n.ID, n.Tag, "k4"))
}
