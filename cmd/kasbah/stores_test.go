//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"kasbah/stores/servertest"
)

// storeKinds are the settings of [ledger] for a new store of each kind, on a server where it needs one.
var storeKinds = map[string]func(t *testing.T) map[string]string{
	"file": func(*testing.T) map[string]string { return map[string]string{"STORE": "file"} },
	"postgres": func(t *testing.T) map[string]string {
		return map[string]string{"STORE": "postgres", "DSN": servertest.Postgres(t).DSN("postgres")}
	},
	"etcd": func(t *testing.T) map[string]string {
		return map[string]string{"STORE": "etcd", "ENDPOINTS": servertest.Etcd(t).URL()}
	},
	"s3": func(t *testing.T) map[string]string {
		return map[string]string{"STORE": "s3", "ENDPOINT": servertest.S3(t).URL(), "BUCKET": servertest.Bucket,
			"ACCESS_KEY": servertest.AccessKey, "SECRET_KEY": servertest.SecretKey}
	},
}

// TestStores runs the same scripts with the ledger in every kind of store.
func TestStores(t *testing.T) {
	for name, settings := range storeKinds {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			with := settings(t)
			testscript.Run(t, testscript.Params{
				Dir: "testdata/stores",
				Setup: func(e *testscript.Env) error {
					for k, v := range with {
						e.Setenv("KASBAH_WITH_LEDGER_"+k, v)
					}
					return nil
				},
				Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "await": await,
					"signal": signals, "schema": matchesSchema},
			})
		})
	}
}

// signals sends a signal to a command in the background, by the order in which
// they were started: `signal 0 STOP`.
func signals(ts *testscript.TestScript, neg bool, args []string) {
	kinds := map[string]os.Signal{"STOP": syscall.SIGSTOP, "CONT": syscall.SIGCONT}
	if neg || len(args) != 2 || kinds[args[1]] == nil {
		ts.Fatalf("usage: signal NUMBER STOP|CONT")
	}
	n, err := strconv.Atoi(args[0])
	ts.Check(err)
	ts.Check(ts.BackgroundCmds()[n].Process.Signal(kinds[args[1]]))
}

// awaitTime bounds await.
const awaitTime = 30 * time.Second

// await runs a command until its output matches, and keeps the first group in
// a variable: `await NAME REGEXP COMMAND…`.
func await(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 3 {
		ts.Fatalf("usage: await NAME REGEXP COMMAND…")
	}
	form := regexp.MustCompile(args[1])
	for deadline := time.Now().Add(awaitTime); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if ts.Exec(args[2], args[3:]...) != nil {
			continue
		}
		if m := form.FindStringSubmatch(ts.ReadFile("stdout")); m != nil {
			ts.Setenv(args[0], m[min(1, len(m)-1)])
			return
		}
	}
	ts.Fatalf("%s", fmt.Sprintf("%q never said what matches %s", strings.Join(args[2:], " "), args[1]))
}

// TestTour moves a ledger through every kind of store and back to files. Two
// people work in each, and at the end the log has it all.
func TestTour(t *testing.T) {
	p := newProgram(t, "0", 1)
	toml, err := os.ReadFile(filepath.Join(p.dir, "kasbah.toml"))
	require.NoError(t, err)
	pg, etcd, s3 := servertest.Postgres(t), servertest.Etcd(t), servertest.S3(t)
	p.must("enact", "-yes")
	runs := 1
	for i, to := range [][]string{
		{"store=postgres", "dsn=" + pg.DSN("postgres")},
		{"store=s3", "endpoint=" + s3.URL(), "bucket=" + servertest.Bucket, "access_key=" + servertest.AccessKey,
			"secret_key=" + servertest.SecretKey},
		{"store=etcd", "endpoints=" + etcd.URL()},
		{"store=file", "path=home/ledger"},
	} {
		args := []string{"ledger", "move"}
		for _, s := range to {
			args = append(args, "-to", s)
		}
		out := p.must(args...)
		at := strings.Index(out, "[env.trial.ledger]")
		require.Positive(t, at, out)
		require.Contains(t, func() string { out, _ := p.run("propose"); return out }(), "has moved to")
		p.file("kasbah.toml", string(toml)+"\n"+out[at:])
		for n, who := range []string{"keeper-2", "keeper-3"} {
			p.env = []string{"KASBAH_WHO=" + who}
			p.must("enact", "-yes", "-allow", "data", "-input", fmt.Sprintf("image=stone-%d-%d", i, n))
		}
		runs += 3
		require.Contains(t, p.must("ledger", "verify"), "whole")
	}
	var log ledgerRuns
	out, err := p.command("ledger", "log", "-json").Output()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(out, &log))
	require.Len(t, log.Runs, runs)
	for _, r := range log.Runs {
		require.Equal(t, "done", r.Outcome, r.Command)
	}
	p.must("propose", "-exit-code", "-input", "image=stone-3-1")
}
