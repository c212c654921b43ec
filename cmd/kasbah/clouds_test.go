//go:build unix

package main

import (
	"context"
	"errors"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/miekg/dns"
	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"kasbah/store/servertest"
)

// TestClouds runs scripts in which one estate has several clouds, real servers
// among them.
func TestClouds(t *testing.T) {
	tower, names := servertest.Postgres(t), servertest.Names(t, "lantern.example")
	examples, err := filepath.Abs("../../driver/process/examples")
	require.NoError(t, err)
	testscript.Run(t, testscript.Params{
		Dir: "testdata/clouds",
		Setup: func(e *testscript.Env) error {
			for k, v := range map[string]string{
				"EXAMPLES": examples, "KASBAH_WHO": "keeper-1", "XDG_CONFIG_HOME": filepath.Join(e.WorkDir, "config"),
				"COAST_DSN": tower.DSN("postgres"), "SERVER": names.Address, "COAST_ZONE_SECRET": servertest.ZoneSecret,
			} {
				e.Setenv(k, v)
			}
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "schema": matchesSchema, "expand": expand, "sql": runSQL, "names": setRecord},
	})
}

// runSQL lets a person do something in a database: `sql ROLE DATABASE STATEMENT`.
// COAST_WORD holds the role's password; a ! in front wants the server to refuse it.
func runSQL(ts *testscript.TestScript, neg bool, args []string) {
	if len(args) != 3 {
		ts.Fatalf("usage: sql ROLE DATABASE STATEMENT")
	}
	ctx := context.Background()
	config, err := pgx.ParseConfig(ts.Getenv("COAST_DSN"))
	ts.Check(err)
	config.User, config.Password, config.Database = args[0], ts.Getenv("COAST_WORD"), args[1]
	c, err := pgx.ConnectConfig(ctx, config)
	if refused := (*pgconn.PgError)(nil); neg && errors.As(err, &refused) {
		return
	}
	ts.Check(err)
	defer c.Close(ctx)
	_, err = c.Exec(ctx, args[2])
	ts.Check(err)
}

// setRecord lets a person change a record: `names NAME TTL KIND VALUE`.
func setRecord(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 4 {
		ts.Fatalf("usage: names NAME TTL KIND VALUE")
	}
	rr, err := dns.NewRR(args[0] + ". " + args[1] + " IN " + args[2] + " " + args[3])
	ts.Check(err)
	m := new(dns.Msg)
	m.SetUpdate("lantern.example.")
	m.RemoveRRset([]dns.RR{rr})
	m.Insert([]dns.RR{rr})
	m.SetTsig(servertest.ZoneKey+".", dns.HmacSHA256, 300, time.Now().Unix())
	c := dns.Client{Net: "tcp", TsigSecret: map[string]string{servertest.ZoneKey + ".": servertest.ZoneSecret}}
	r, _, err := c.Exchange(m, ts.Getenv("SERVER"))
	ts.Check(err)
	if r.Rcode != dns.RcodeSuccess {
		ts.Fatalf("the name server answers %s", dns.RcodeToString[r.Rcode])
	}
}
