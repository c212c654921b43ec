package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/stores/servertest"
)

// ledgerRuns are the runs as `ledger log -json` tells them.
type ledgerRuns struct {
	Runs []struct {
		Command, Outcome string
		Began            time.Time
		Ended            *time.Time
		Counts           map[string]int
	}
}

// TestTogether: many people enact at once on one ward, half of them each in a
// corner of their own, half all at the same resource. Those in corners overlap in
// time, the others take turns, all end, and the cloud holds what all have made.
func TestTogether(t *testing.T) {
	t.Parallel()
	many, few := 16, 8
	switch {
	case os.Getenv("THOROUGH") != "":
		many, few = 50, 20
	case testing.Short():
		many, few = 10, 6
	}
	t.Run("postgres", func(t *testing.T) {
		together(t, many, "STORE=postgres", "DSN="+servertest.Postgres(t).DSN("postgres"))
	})
	t.Run("etcd", func(t *testing.T) { together(t, few, "STORE=etcd", "ENDPOINTS="+servertest.Etcd(t).URL()) })
	t.Run("s3", func(t *testing.T) {
		together(t, few, "STORE=s3", "ENDPOINT="+servertest.S3(t).URL(), "BUCKET="+servertest.Bucket,
			"ACCESS_KEY="+servertest.AccessKey, "SECRET_KEY="+servertest.SecretKey)
	})
}

func together(t *testing.T, people int, settings ...string) {
	p := &program{t: t, dir: t.TempDir()}
	for _, s := range settings {
		p.env = append(p.env, "KASBAH_WITH_LEDGER_"+s)
	}
	p.file("kasbah.toml", "estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\npace = "+
		"0.05\n[env.trial]\n")
	p.file("shore/shore.star", `
turn = input("turn", default = "none")
quay = medina.subnet("quay", network = medina.network("coast", range = "10.20.0.0/16"), range = "10.20.1.0/24")
medina.bucket("beacon", tags = {"turn": turn})
medina.machine("gauge-" + turn, subnet = quay, size = "tiny", image = "stone-1")
medina.bucket("readings-" + turn)
publish("quay", quay.id)
`)
	p.must("enact", "-yes", "-only", "medina.subnet/quay", "-only", "medina.bucket/beacon")
	var group sync.WaitGroup
	outputs := make([]string, people)
	for i := range people {
		turn := fmt.Sprintf("t%d", i)
		args := []string{"enact", "-yes", "-wait", "5m", "-input", "turn=" + turn, "-only", "medina.machine/gauge-" +
			turn}
		if i%2 == 1 { // all of these write the beacon
			args = []string{"enact", "-yes", "-wait", "5m", "-input", "turn=" + turn, "-only", "medina.bucket/beacon",
				"-only", "medina.bucket/readings-" + turn}
		}
		group.Go(func() {
			var code int
			if outputs[i], code = p.run(args...); code != 0 {
				t.Errorf("%d ended with %d: %s", i, code, outputs[i])
			}
		})
	}
	group.Wait()
	if t.Failed() {
		return
	}
	require.Contains(t, p.must("ledger", "verify"), "whole")
	require.Contains(t, p.must("lock"), "No run holds a lock")
	machines, buckets := p.must("medina", "list", "machine"), p.must("medina", "list", "bucket")
	for i := range people {
		if i%2 == 0 {
			require.Equal(t, 1, strings.Count(machines, fmt.Sprintf("trial-shore-gauge-t%d ", i)), machines)
		} else {
			require.Equal(t, 1, strings.Count(buckets, fmt.Sprintf("trial-shore-readings-t%d ", i)), buckets)
		}
	}
	var log ledgerRuns
	out, err := p.command("ledger", "log", "-json").Output()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(out, &log))
	type span struct{ from, to time.Time }
	var corners, turns []span
	for _, r := range log.Runs[1:] {
		if r.Counts["done"] == 0 {
			continue // it held its locks and gave them back: what it waited for asked for more
		}
		require.Equal(t, "done", r.Outcome, r.Command)
		if strings.Contains(r.Command, "gauge") {
			corners = append(corners, span{r.Began, *r.Ended})
		} else {
			turns = append(turns, span{r.Began, *r.Ended})
		}
	}
	require.Len(t, corners, (people+1)/2)
	require.Len(t, turns, people/2)
	most := 0
	for _, a := range corners {
		n := 0
		for _, b := range corners {
			if !b.from.After(a.from) && b.to.After(a.from) {
				n++
			}
		}
		most = max(most, n)
	}
	require.Greater(t, most, 2, "those in corners go on at once")
	slices.SortFunc(turns, func(a, b span) int { return a.from.Compare(b.from) })
	for i := 1; i < len(turns); i++ {
		require.False(t, turns[i].from.Before(turns[i-1].to), "those at the same resource take turns")
	}
	t.Logf("%d people: %d in corners of their own at once", people, most)
}

// TestOtherContainer: a process that this one cannot see, in another container
// of the same host, is never taken for dead; one that it can see is, at once,
// when it is.
func TestOtherContainer(t *testing.T) {
	t.Parallel()
	if err := exec.Command("unshare", "--pid", "--fork", "--mount-proc", "true").Run(); err != nil {
		t.Skip("this machine lets no program make a process namespace")
	}
	p := newProgram(t, "0.06", 2)
	for _, c := range []struct {
		name             string
		holder, onlooker []string
		dead             bool
	}{
		{"inside, seen from outside", []string{"unshare", "--pid", "--fork", "--mount-proc", "--kill-child"}, nil,
			false},
		{"outside, seen from inside", nil, []string{"unshare", "--pid", "--fork", "--mount-proc", "--kill-child"},
			false},
		{"both outside", nil, nil, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			within := func(prefix []string, args ...string) *exec.Cmd {
				cmd := p.command(args...)
				if prefix != nil {
					cmd.Args = append(slices.Clone(prefix), append([]string{cmd.Path}, args...)...)
					cmd.Path, cmd.Err = "/usr/bin/unshare", nil
				}
				return cmd
			}
			holder := within(c.holder, "enact", "-yes")
			require.NoError(t, holder.Start())
			p.untilLocked()
			require.NoError(t, holder.Process.Kill())
			_ = holder.Wait() // it was killed
			out, err := within(c.onlooker, "enact", "-yes", "-break-stale").CombinedOutput()
			if c.dead {
				require.NoError(t, err, string(out))
				return
			}
			var exit *exec.ExitError
			require.True(t, asExit(err, &exit), string(out))
			require.Equal(t, 4, exit.ExitCode(), string(out))
			require.NotContains(t, string(out), "no longer runs")
			p.must("lock", "break", p.holder(), "-why", "a test")
			p.must("enact", "-yes")
			p.must("raze", "-yes", "-allow", "data")
		})
	}
}
