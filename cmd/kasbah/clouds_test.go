//go:build unix

package main

import (
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/miekg/dns"
	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"kasbah/stores/servertest"
)

// TestClouds runs scripts in which one estate has several clouds, real servers
// among them.
func TestClouds(t *testing.T) {
	tower, names := servertest.Postgres(t), servertest.Names(t, "lantern.example")
	examples, err := filepath.Abs("../../drivers/process/examples")
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
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "schema": matchesSchema,
			"expand": expand, "sql": runSQL, "names": setRecord},
	})
}

// TestForeign drives an API of another project, beginning with its own document: with what
// -draft and -probe write, and the few lines that the guide adds.
func TestForeign(t *testing.T) {
	server := servertest.PowerDNS(t)
	ask, err := http.NewRequest(http.MethodGet, server.URL()+"/api/docs", nil)
	require.NoError(t, err)
	ask.Header.Set("X-API-Key", servertest.NamesKey)
	document, err := patient.Do(ask)
	require.NoError(t, err)
	defer document.Body.Close()
	body, err := io.ReadAll(document.Body)
	require.NoError(t, err)
	testscript.Run(t, testscript.Params{
		Dir: "testdata/foreign",
		Setup: func(e *testscript.Env) error {
			for k, v := range map[string]string{
				"KASBAH_WHO": "keeper-1", "XDG_CONFIG_HOME": filepath.Join(e.WorkDir, "config"), "API": server.URL() +
					"/api/v1", "NAMES_KEY": servertest.NamesKey,
			} {
				e.Setenv(k, v)
			}
			return os.WriteFile(filepath.Join(e.WorkDir, "names.yaml"), body, 0o644)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "schema": matchesSchema,
			"expand": expand, "request": request},
	})
}

// TestFlags: the same with a server of feature flags. Only the thorough tests install one.
func TestFlags(t *testing.T) {
	server := servertest.Flags(t)
	document, err := patient.Get(server.URL() + "/docs/openapi.json")
	require.NoError(t, err)
	defer document.Body.Close()
	body, err := io.ReadAll(document.Body)
	require.NoError(t, err)
	testscript.Run(t, testscript.Params{
		Dir: "testdata/flags",
		Setup: func(e *testscript.Env) error {
			for k, v := range map[string]string{
				"KASBAH_WHO": "keeper-1", "XDG_CONFIG_HOME": filepath.Join(e.WorkDir, "config"), "SERVER": server.URL(),
				"API": server.URL() + "/api/admin", "FLAGS_KEY": servertest.FlagsKey,
			} {
				e.Setenv(k, v)
			}
			return os.WriteFile(filepath.Join(e.WorkDir, "flags.json"), body, 0o644)
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "schema": matchesSchema,
			"expand": expand, "request": request},
	})
}

// request lets a person ask an API: `request METHOD PATH [BODY]`. What it answers stands in
// the file `answer`; a ! in front wants it to refuse.
func request(ts *testscript.TestScript, neg bool, args []string) {
	if len(args) < 2 || len(args) > 3 {
		ts.Fatalf("usage: request METHOD PATH [BODY]")
	}
	body := ""
	if len(args) == 3 {
		body = args[2]
	}
	req, err := http.NewRequest(args[0], ts.Getenv("API")+args[1], strings.NewReader(body))
	ts.Check(err)
	req.Header.Set("X-API-Key", ts.Getenv("NAMES_KEY"))
	req.Header.Set("Authorization", ts.Getenv("FLAGS_KEY"))
	req.Header.Set("Content-Type", "application/json")
	r, err := patient.Do(req)
	ts.Check(err)
	defer r.Body.Close()
	said, err := io.ReadAll(r.Body)
	ts.Check(err)
	if neg != (r.StatusCode >= 400) {
		ts.Fatalf("%s: %s", r.Status, said)
	}
	ts.Check(os.WriteFile(ts.MkAbs("answer"), said, 0o644))
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
