package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// stormTime is how long the storm lasts; STORM=20m makes it longer.
const stormTime = 12 * time.Second

// forecast says until when a storm lasts, and what decides in it.
func forecast(t *testing.T) (until time.Time, rnd *rand.Rand) {
	lasts, seed := stormTime, uint64(7)
	if s := os.Getenv("STORM"); s != "" {
		var err error
		lasts, err = time.ParseDuration(s)
		require.NoError(t, err)
		seed = uint64(time.Now().UnixNano())
	} else if testing.Short() {
		t.Skip("takes some seconds")
	}
	t.Logf("seed %d", seed)
	return time.Now().Add(lasts), rand.New(rand.NewPCG(seed, 2))
}

// TestStorm: an estate that changes all the while, in a cloud that fails in every way
// it can, now and then: nothing is lost, nothing is doubled, and a survey that comes
// through says what is so.
func TestStorm(t *testing.T) {
	t.Parallel()
	until, rnd := forecast(t)
	of := func(list ...string) string { return list[rnd.IntN(len(list))] }
	p := newProgram(t, "0", 6)
	p.must("enact", "-yes")
	rounds, met, failed, surveys := 0, 0, 0, 0
	for ; time.Now().Before(until); rounds++ {
		// the storm: faults of any kind at any call, so many and no more
		for range 1 + rnd.IntN(4) {
			fault := []string{"medina", "faults", of("refuse", "delay", "drop-before", "drop-after", "half",
				"throttle"),
				"-after", fmt.Sprint(rnd.IntN(12)), "-times", fmt.Sprint(1 + rnd.IntN(4)), "-for",
				of("1ms", "20ms", "400ms")}
			if rnd.IntN(2) == 0 {
				fault = append(fault, "-on", of("create", "edit", "delete", "read", "list"))
			}
			if rnd.IntN(2) == 0 {
				fault = append(fault, "-type", of("network", "subnet", "machine", "disk"))
			}
			p.must(fault...)
			met++
		}
		n := 3 + rnd.IntN(6)
		inputs := []string{"-input", fmt.Sprintf("image=stone-%d", rnd.IntN(3)), "-input", fmt.Sprintf("n=%d", n),
			"-input", fmt.Sprintf("span=10.%d.0.0/16", rnd.IntN(10)/9)}
		enact := append([]string{"enact", "-yes", "-allow", "data", "-allow", "security"}, inputs...)
		storm := append(enact, "-if-one-fails", of("stop", "go-on", "undo"), "-timeout", of("300ms", "5s"))
		if out, code := p.run(storm...); code != 0 {
			require.Equal(t, 1, code, "%v\n%s", storm, out)
			failed++
		}
		// nobody else touched anything: a survey finds no drift, or fails in words
		p.must("medina", "faults", of("refuse", "drop-before", "drop-after", "half", "throttle"), "-on", "list",
			"-times", fmt.Sprint(1+rnd.IntN(6)), "-for", "10ms")
		if out, code := p.run("survey", "-exit-code"); code == 0 {
			surveys++
		} else {
			require.Equal(t, 1, code, out)
			require.NotContains(t, out, "0 differs, 0 gone, 0 unchecked")
		}
		// the calm: what was left half done is gone on with
		p.must("medina", "faults", "-clear")
		out, code := p.run(enact...)
		for tries := 0; code != 0 && tries < 2; tries++ {
			out, code = p.run(enact...)
		}
		require.Zero(t, code, out)
		p.must(append([]string{"propose", "-exit-code"}, inputs...)...)
		p.must("survey", "-exit-code")
		held := p.ids("medina", "list", "-json")
		require.Len(t, held, 5+2*n)
		require.ElementsMatch(t, held, p.ids("ledger", "show", "-json"),
			"what is there is what is recorded, once each\n%s", strings.Join(storm, " "))
	}
	verify := p.must("ledger", "verify")
	require.Contains(t, verify, "whole")
	t.Logf("%d rounds, %d faults asked for, %d runs failed, %d surveys came through; %s", rounds, met, failed, surveys,
		verify)
}

// ids are the ids of all things that a command's JSON holds.
func (p *program) ids(args ...string) []string {
	cmd := p.command(args...)
	out, err := cmd.Output()
	require.NoError(p.t, err)
	var v any
	require.NoError(p.t, json.Unmarshal(out, &v))
	var ids []string
	var walk func(v any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			if id, ok := v["id"].(string); ok {
				ids = append(ids, id)
				return
			}
			for _, e := range v {
				walk(e)
			}
		case []any:
			for _, e := range v {
				walk(e)
			}
		}
	}
	walk(v)
	return ids
}
