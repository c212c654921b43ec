package postgres_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/drivers/conformance"
	"kasbah/drivers/drivertest"
	"kasbah/drivers/postgres"
	"kasbah/stores/servertest"
)

func to(dsn string) postgres.Options {
	return postgres.Options{DSN: func(context.Context, bool) (string, error) { return dsn, nil }}
}

func open(t *testing.T, dsn string) *postgres.Driver {
	d := postgres.New(to(dsn))
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

func must(t *testing.T, d driver.Driver, typ string, in value.Map) driver.Live {
	t.Helper()
	l, err := d.Create(context.Background(), typ, in, "")
	require.NoError(t, err)
	return l
}

// TestConformance runs the suite on each type against a real server.
func TestConformance(t *testing.T) {
	server := servertest.Postgres(t)
	d := open(t, server.DSN("postgres"))
	must(t, d, "role", value.Map{"name": "keepers"})
	must(t, d, "database", value.Map{"name": "tides"})
	must(t, d, "schema", value.Map{"database": "tides", "name": "open"})
	// members and tables: more than come and go while lists are read on a slow machine
	const enough = 1000
	c, err := pgx.Connect(context.Background(), server.DSN("tides"))
	require.NoError(t, err)
	_, err = c.Exec(context.Background(),
		fmt.Sprintf(`do $$ begin for i in 0..%d loop
			execute format('create role %%I', 'member-' || i);
			execute format('create table open.%%I (n int)', 't' || i);
		end loop; end $$`, enough-1))
	require.NoError(t, err)
	require.NoError(t, c.Close(context.Background()))
	edit := func(name string, from, to any) driver.Change {
		return driver.Change{From: value.Map{name: from}, To: value.Map{name: to}}
	}
	for _, s := range []conformance.Sample{
		{Type: "role", Few: true, Inputs: func(n int) value.Map {
			return value.Map{"name": fmt.Sprintf(`odd "name" %d/%%`, n), "login": true, "password": "it's a \\ word"}
		}, Edit: driver.Change{From: value.Map{"connections": int64(-1)}, To: value.Map{"connections": int64(3),
			"password": "another"}}},
		{Type: "membership", Few: true, Inputs: func(n int) value.Map {
			return value.Map{"group": "keepers", "member": fmt.Sprint("member-", n%enough)}
		}, Edit: edit("admin", false, true)},
		{Type: "database", Few: true, Inputs: func(n int) value.Map {
			return value.Map{"name": fmt.Sprint("sea ", n), "owner": "keepers"}
		}, Edit: edit("connections", int64(-1), int64(7))},
		{Type: "schema", Few: true, Inputs: func(n int) value.Map {
			return value.Map{"database": "tides", "name": fmt.Sprint("room/", n)}
		}, Edit: edit("owner", "postgres", "keepers")},
		{Type: "grant", Few: true, Inputs: func(n int) value.Map {
			return value.Map{"database": "tides", "role": "keepers", "on": "table", "name": fmt.Sprint("open.t", n%enough),
				"rights": []any{"insert", "select"}}
		}, Edit: edit("rights", []any{"insert", "select"}, []any{"select", "update"})},
	} {
		t.Run(s.Type, func(t *testing.T) { drivertest.Run(t, d, s) })
	}
}

// TestServer: what the server itself decides and refuses.
func TestServer(t *testing.T) {
	ctx, server := context.Background(), servertest.Postgres(t)
	d := open(t, server.DSN("postgres"))
	role := must(t, d, "role", value.Map{"name": "gauger", "login": true, "password": "high-water-9"})
	require.NotContains(t, role.Attributes, "password")
	must(t, d, "database", value.Map{"name": "tides", "owner": "gauger"})

	// who has the password gets in, and the server keeps no more than a verifier
	as := func(password string) error {
		config, err := pgx.ParseConfig(server.DSN("tides"))
		require.NoError(t, err)
		config.User, config.Password = "gauger", password
		c, err := pgx.ConnectConfig(ctx, config)
		if err == nil {
			err = c.Close(ctx)
		}
		return err
	}
	require.NoError(t, as("high-water-9"))
	require.ErrorContains(t, as("low-water-9"), "password authentication failed")
	admin, err := pgx.Connect(ctx, server.DSN("postgres"))
	require.NoError(t, err)
	defer admin.Close(ctx)
	var kept string
	require.NoError(t, admin.QueryRow(ctx, `select rolpassword from pg_authid where rolname = 'gauger'`).Scan(&kept))
	require.Regexp(t, `^SCRAM-SHA-256\$4096:`, kept)

	// what other clients would make something else of is refused, and not told
	watch, err := d.Update(ctx, "role", "gauger", driver.Change{To: value.Map{"password": "flut wächter 九"}}, "", "")
	require.NoError(t, err)
	require.NotContains(t, watch.Attributes, "password")
	require.NoError(t, as("flut wächter 九"))
	for _, unsettled := range []string{"ﬁsh-rock", "fish\u00a0rock", "fi\u200dsh", "fish⚓\ufe0f", "wa\u0308chter"} {
		_, err := d.Update(ctx, "role", "gauger", driver.Change{To: value.Map{"password": unsettled}}, "", "")
		require.ErrorContains(t, err, "can be written in several ways", "%q", unsettled)
		require.NotContains(t, err.Error(), unsettled)
	}
	require.NoError(t, as("flut wächter 九"))

	ext := must(t, d, "extension", value.Map{"database": "tides", "name": "hstore"})
	require.Equal(t, "tides/hstore", ext.ID)
	require.NotEmpty(t, ext.Attributes["version"])
	require.Equal(t, "public", ext.Attributes["schema"])
	found, err := d.Find(ctx, "extension", value.Map{"database": "tides", "name": "hstore"})
	require.NoError(t, err)
	require.Equal(t, []driver.Live{ext}, found)
	require.NoError(t, d.Delete(ctx, "extension", ext.ID, "", ""))
	_, err = d.Read(ctx, "extension", ext.ID)
	require.ErrorIs(t, err, driver.ErrGone)

	for _, wrong := range []struct {
		typ   string
		in    value.Map
		words string
	}{
		{"role", value.Map{"name": "gauger"}, "already exists"},
		{"database", value.Map{"name": "other", "owner": "nobody"}, `role "nobody" does not exist`},
		{"extension", value.Map{"database": "tides", "name": "no_such"}, "no_such"},
		{"grant", value.Map{"database": "tides", "role": "gauger", "on": "schema", "name": "public",
			"rights": []any{"select"}}, "a schema has no right select"},
		{"grant", value.Map{"database": "tides", "role": "gauger", "on": "schema", "name": "public",
			"rights": []any{"usage", "create"}}, "in alphabetical order"},
		{"grant", value.Map{"database": "tides", "role": "gauger", "on": "table", "name": "one",
			"rights": []any{"select"}}, "as SCHEMA.TABLE"},
		{"schema", value.Map{"database": "none", "name": "a"}, `database "none" does not exist`},
	} {
		t.Run(wrong.typ, func(t *testing.T) {
			_, err := d.Create(ctx, wrong.typ, wrong.in, "")
			require.ErrorContains(t, err, wrong.words)
			passing, _ := driver.IsPassing(err)
			require.False(t, passing, "%v", err)
		})
	}
	require.ErrorContains(t, d.Delete(ctx, "role", "gauger", "", ""), "owner of database tides")
	_, err = d.Update(ctx, "role", "gauger", driver.Change{From: value.Map{"name": "gauger"},
		To: value.Map{"name": "other"}}, "", "")
	require.ErrorContains(t, err, "cannot be changed")

	// a server that is away passes; that a call was lost half-way is told
	server.Stop()
	_, err = d.Read(ctx, "role", "gauger")
	passing, _ := driver.IsPassing(err)
	require.True(t, passing, "%v", err)
	require.NotContains(t, fmt.Sprint(err), "high-water")
	server.Start()
	_, err = d.Read(ctx, "role", "gauger")
	if err != nil { // connections of before are found to be gone, once
		_, err = d.Read(ctx, "role", "gauger")
	}
	require.NoError(t, err)
}

// TestLostAnswer: of a commit without an answer nothing is known, and what was cut off
// before it has had no effect.
func TestLostAnswer(t *testing.T) {
	ctx, server := context.Background(), servertest.Postgres(t)
	front := drivertest.NewCutter(t, server.Address)
	d := open(t, strings.Replace(server.DSN("postgres"), server.Address, front.Address, 1))
	for i, x := range []struct {
		at      string
		outcome driver.Outcome
		there   bool
	}{{"COMMIT", driver.Unknown, true}, {"CREATE ROLE", driver.NotDone, false}, {"BEGIN", driver.NotDone, false}} {
		name := fmt.Sprintf("lost_%d", i)
		front.CutAt([]byte(x.at))
		_, err := d.Create(ctx, "role", value.Map{"name": name}, "")
		require.Equal(t, 1, front.Cuts(), x.at)
		require.Equal(t, x.outcome, driver.OutcomeOf(err), "%s: %v", x.at, err)
		passing, _ := driver.IsPassing(err)
		require.True(t, passing, "%s: %v", x.at, err)
		found, err := d.Find(ctx, "role", value.Map{"name": name})
		require.NoError(t, err)
		require.Equal(t, x.there, len(found) == 1, x.at)
	}
	role := must(t, d, "role", value.Map{"name": "stays"})
	front.CutAt([]byte("COMMIT"))
	require.Equal(t, driver.Unknown, driver.OutcomeOf(d.Delete(ctx, "role", role.ID, "", "")))
	_, err := d.Read(ctx, "role", role.ID)
	require.ErrorIs(t, err, driver.ErrGone)
}
