package main

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/drivers/drivertest"
)

// TestExamples: the example of each type can be copied as it is.
func TestExamples(t *testing.T) {
	p := &program{t: t, dir: t.TempDir()}
	p.file("signals.yaml", drivertest.SignalsDocument)
	p.file("signals.overlay.yaml", drivertest.SignalsOverlay)
	settings := "estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\n" +
		"[drivers.signals]\nkind = \"openapi\"\nspec = \"signals.yaml\"\noverlay = \"signals.overlay.yaml\"\napi = " +
		"\"http://127.0.0.1:1\"\n[env.trial]\n"
	p.file("kasbah.toml", settings)
	p.file("shore/shore.star", "")
	var doc struct {
		Types []struct{ Type, Example string }
	}
	require.NoError(t, json.Unmarshal([]byte(p.must("types", "-json")), &doc))
	require.Greater(t, len(doc.Types), 20)
	for _, c := range doc.Types {
		t.Run(c.Type, func(t *testing.T) {
			p.t = t
			more := ""
			if strings.Contains(c.Example, "secret(") {
				more = fmt.Sprintf("[env.trial.secrets]\nexample = { file = %q }\n", "word.txt")
			}
			p.file("kasbah.toml", settings+more)
			p.file("shore/shore.star", c.Example)
			require.Contains(t, p.must("check"), "no problem found", c.Example)
		})
	}
}

// TestByteOrderMark: what some editors put at the beginning of a file is no part of it.
func TestByteOrderMark(t *testing.T) {
	const mark = "\ufeff"
	p := &program{t: t, dir: t.TempDir()}
	p.file("kasbah.toml", mark+"estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = "+
		"\"medina\"\n[env.trial]\n")
	p.file("shore/shore.star", mark+"x = input(\"x\", kind.int)\nmedina.bucket(\"b\", size = x)\n")
	p.file("in.json", mark+`{"x": 1}`)
	p.file("in.toml", mark+"x = 1\n")
	for _, inputs := range []string{"in.json", "in.toml"} {
		out, code := p.run("check", "-inputs", inputs)
		require.Equal(t, 1, code, out)
		require.Contains(t, out, "shore/shore.star:2:27: medina.bucket/b: a bucket has no attribute \"size\"")
		require.Contains(t, out, "1 problem found")
	}
}

// TestLogOfRuns: a run over several wards is one run, runs are found by what is shown of
// their ids, and the reason that was given stands beside them.
func TestLogOfRuns(t *testing.T) {
	p := &program{t: t, dir: t.TempDir()}
	p.file("kasbah.toml", "estate = \"coast\"\nwards = [\"a\", \"b\"]\n[ledger]\nseal = "+
		"\"off\"\n[drivers.medina]\nkind = \"medina\"\npace = 0\n[env.trial]\n")
	var ids []string
	for i, why := range []string{"first light", ""} {
		p.file("a/a.star", fmt.Sprintf("medina.topic(\"t%d\")\n", i))
		p.file("b/b.star", fmt.Sprintf("medina.topic(\"t%d\")\n", i))
		args := []string{"enact", "-yes"}
		if why != "" {
			args = append(args, "-why", why)
		}
		_, id, _ := strings.Cut(p.must(args...), " Run ")
		ids = append(ids, strings.Split(id, ".")[0])
	}
	lines := func(args ...string) []string {
		return strings.Split(strings.TrimSpace(p.must(append([]string{"ledger", "log"}, args...)...)), "\n")[1:]
	}
	require.Len(t, lines(), 4)
	require.Contains(t, p.must("ledger", "log", "-full"), "    why  first light")
	last := lines("-last", "1")
	require.Len(t, last, 2, "one run over two wards")
	require.Contains(t, last[0], ids[1])
	for _, as := range []string{ids[0], strings.ToLower(ids[0]), ids[0][4:]} {
		found := lines(as)
		require.Len(t, found, 2, as)
		require.Contains(t, found[0], ids[0])
	}
	require.Len(t, lines("b", ids[0]), 1)
	out, code := p.run("ledger", "log", "0000")
	require.Equal(t, 2, code)
	require.Contains(t, out, "no run and no ward is called 0000")
	require.Contains(t, p.must("ledger", "show", ids[0]), "    why  first light")
}
