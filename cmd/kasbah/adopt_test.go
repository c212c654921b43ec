package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kasbah/stores/servertest"
)

// TestAdoptPostgres: what a database server has is declared as it is, adopted, and in order then.
func TestAdoptPostgres(t *testing.T) {
	ctx, server := context.Background(), servertest.Postgres(t)
	admin, err := pgx.Connect(ctx, server.DSN("postgres"))
	require.NoError(t, err)
	defer admin.Close(ctx)
	run := func(c *pgx.Conn, format string, args ...any) {
		_, err := c.Exec(ctx, fmt.Sprintf(format, args...))
		require.NoError(t, err, format)
	}
	run(admin, "create role readers")
	for i := range 20 {
		run(admin, "create role keeper_%d login", i)
		run(admin, "grant readers to keeper_%d", i)
	}
	for _, db := range []string{"tides", "lamps"} {
		run(admin, "create database %s owner keeper_0", db)
		c, err := pgx.Connect(ctx, server.DSN(db))
		require.NoError(t, err)
		for i := range 4 {
			run(c, "create schema coast_%d authorization keeper_%d", i, i)
			run(c, "grant usage on schema coast_%d to readers", i)
		}
		require.NoError(t, c.Close(ctx))
	}
	p := &program{t: t, dir: t.TempDir()}
	p.env = []string{"KASBAH_ENV=trial"}
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "base"), 0o755))
	p.file("kasbah.toml", fmt.Sprintf("estate = \"lantern-coast\"\nwards = [\"base\"]\n[drivers.tower]\nkind = \"postgres\"\ndsn = %q\n"+
		"[env.trial]\n", server.DSN("postgres")))
	out := p.must("adopt", "-from", "tower", "-ward", "base", "-yes")
	require.Contains(t, out, "tower.role(\"keeper_\" + name, name = \"keeper_\" + name, login = True)")
	require.Contains(t, out, "64 of 64 resources would change: 64 adopted")
	require.Contains(t, p.must("propose", "-exit-code"), "Nothing to do")
	require.Contains(t, p.must("survey", "-exit-code"), "0 differs, 0 gone, 0 unchecked")
}

// TestAdoptZone: a whole zone of a name server, 500 records, is declared as it is.
func TestAdoptZone(t *testing.T) {
	names := servertest.Names(t, "lantern.example")
	p := &program{t: t, dir: t.TempDir()}
	p.env = []string{"KASBAH_ENV=trial", "COAST_ZONE_SECRET=" + servertest.ZoneSecret}
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "zone"), 0o755))
	toml := fmt.Sprintf("estate = \"lantern-coast\"\nwards = [\"zone\"]\n[drivers.names]\nkind = \"dns\"\nserver = %q\nzones = "+
		"[\"lantern.example\"]\nkey = \"keepers\"\nsecret = { env = \"COAST_ZONE_SECRET\" }\n[env.trial]\n", names.Address)
	p.file("kasbah.toml", toml)
	p.file("zone/fill.star", `
for n in range(400):
    names.record("light-%d" % n, zone = "lantern.example", name = "light-%d.lantern.example" % n, kind = "A", values = ["10.1.%d.%d" % (n // 200, n % 200)])
for n in range(99):
    names.record("note-%d" % n, zone = "lantern.example", name = "note-%d.lantern.example" % n, kind = "TXT", values = ["light %d" % n], ttl = 60)
`)
	p.must("enact", "-yes", "-quiet", "-rehearse", "never")
	before := p.must("survey", "-strangers=all")
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".kasbah")))
	require.NoError(t, os.Remove(filepath.Join(p.dir, "zone/fill.star")))
	out := p.must("adopt", "-from", "names", "-ward", "zone", "-yes", "-quiet")
	require.Contains(t, p.must("propose", "-exit-code"), "Nothing to do")
	after := p.must("survey", "-exit-code", "-strangers=all")
	require.Contains(t, after, "0 differs, 0 gone, 0 unchecked.", "%s", before)
	require.NotContains(t, after, "stranger")
	require.Less(t, len(p.read("zone/found.star")), 40_000, "%s", out)
	if os.Getenv("SHOW") != "" {
		t.Log(out)
	}
}
