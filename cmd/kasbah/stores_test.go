package main

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"

	"kasbah/store/servertest"
)

// TestStores runs the same scripts with the ledger in every kind of store.
func TestStores(t *testing.T) {
	for name, settings := range map[string]func(t *testing.T) map[string]string{
		"file": func(*testing.T) map[string]string { return map[string]string{"STORE": "file"} },
		"postgres": func(t *testing.T) map[string]string {
			return map[string]string{"STORE": "postgres", "DSN": servertest.Postgres(t).DSN("postgres")}
		},
		"etcd": func(t *testing.T) map[string]string {
			return map[string]string{"STORE": "etcd", "ENDPOINTS": servertest.Etcd(t).URL()}
		},
		"s3": func(t *testing.T) map[string]string {
			return map[string]string{"STORE": "s3", "ENDPOINT": servertest.S3(t).URL(), "BUCKET": servertest.Bucket, "ACCESS_KEY": servertest.AccessKey, "SECRET_KEY": servertest.SecretKey}
		},
	} {
		t.Run(name, func(t *testing.T) {
			with := settings(t)
			testscript.Run(t, testscript.Params{
				Dir: "testdata/stores",
				Setup: func(e *testscript.Env) error {
					for k, v := range with {
						e.Setenv("KASBAH_WITH_LEDGER_"+k, v)
					}
					return nil
				},
				Cmds: map[string]func(*testscript.TestScript, bool, []string){"exits": exits, "await": await, "schema": matchesSchema},
			})
		})
	}
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
