package postgres_test

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/stores/servertest"
)

// TestRehearse: calls are tried one after the other, as if those before had been made, and
// everything stays as it is.
func TestRehearse(t *testing.T) {
	ctx, server := context.Background(), servertest.Postgres(t)
	d := open(t, server.DSN("postgres"))
	must(t, d, "role", value.Map{"name": "keepers"})
	must(t, d, "role", value.Map{"name": "owner"})
	must(t, d, "database", value.Map{"name": "tides", "owner": "owner"})
	made := func(n int, name string) driver.Made { return driver.Made{Call: n, Path: value.Path{value.Key(name)}} }
	out, err := d.Rehearse(ctx, []driver.Call{
		// 0: in another database, before anything is made
		{Do: "create", Type: "schema", Inputs: value.Map{"database": "tides", "name": "open"}},
		// 1
		{Do: "create", Type: "schema", Inputs: value.Map{"database": "tides", "name": "pg_open"}},
		// 2
		{Do: "create", Type: "role", Inputs: value.Map{"name": "gauger", "login": true}},
		// 3: there is one
		{Do: "create", Type: "role", Inputs: value.Map{"name": "keepers"}},
		// 4
		{Do: "create", Type: "membership", Inputs: value.Map{"group": "keepers", "member": made(2, "name")}},
		// 5
		{Do: "create", Type: "membership", Inputs: value.Map{"group": "keepers", "member": "nobody"}},
		// 6: in no transaction
		{Do: "create", Type: "database", Inputs: value.Map{"name": "waves"}},
		// 7: others do not see the role
		{Do: "create", Type: "schema", Inputs: value.Map{"database": "tides", "name": "more", "owner": "gauger"}},
		// 8: owns a database
		{Do: "delete", Type: "role", ID: "owner"},
		// 9
		{Do: "update", Type: "role", ID: "keepers", Change: driver.Change{From: value.Map{"connections": int64(-1)},
			To: value.Map{"connections": int64(3)}}},
		// 10
		{Do: "delete", Type: "role", ID: "nobody"},
		// 11: rests on what is refused
		{Do: "create", Type: "membership", Inputs: value.Map{"group": made(3, "name"), "member": "keepers"}},
	})
	require.NoError(t, err)
	tried, said := map[int]bool{}, map[int]string{}
	for i, r := range out {
		if tried[i] = r.Tried; r.Err != nil {
			said[i] = r.Err.Error()
		}
	}
	require.Equal(t, map[int]bool{0: true, 1: true, 2: true, 3: true, 4: true, 5: true, 6: false, 7: false, 8: true,
		9: true, 10: true, 11: false}, tried)
	for _, c := range []struct {
		i     int
		words string
	}{
		{1, "unacceptable schema name"},
		{3, "already exists"},
		{5, "does not exist"},
		{8, "cannot be dropped"},
		{10, "gone"},
	} {
		t.Run(fmt.Sprint(c.i), func(t *testing.T) {
			require.Contains(t, said[c.i], c.words)
			delete(said, c.i)
		})
	}
	require.Empty(t, said)
	var roles []string
	for l, err := range d.List(ctx, "role") {
		require.NoError(t, err)
		roles = append(roles, l.ID)
	}
	require.NotContains(t, roles, "gauger")
	live, err := d.Read(ctx, "role", "keepers")
	require.NoError(t, err)
	require.EqualValues(t, -1, live.Attributes["connections"])
	_, err = d.Read(ctx, "schema", "tides/open")
	require.ErrorIs(t, err, driver.ErrGone)
}
