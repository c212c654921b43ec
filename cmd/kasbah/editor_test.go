//go:build unix

package main

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// lanternCoast is the program in a copy of the demo's estate, which is enacted in trial.
func lanternCoast(t *testing.T) *program {
	p := &program{t: t, dir: t.TempDir(), env: []string{"KASBAH_ENV=trial"}}
	require.NoError(t, os.CopyFS(p.dir, os.DirFS("../../demo/lantern-coast")))
	p.must("enact", "-yes", "-quiet", "-allow", "security", "-with", "drivers.medina.pace=0")
	return p
}

// TestNeovim: an editor that is not ours does what people do, by the language server. Each step's effect on
// the text, or its answer, is held against what was meant.
func TestNeovim(t *testing.T) {
	t.Parallel()
	nvim, err := exec.LookPath("nvim")
	if err != nil {
		t.Skip("there is no Neovim here")
	}
	p := lanternCoast(t)
	relay := regexp.MustCompile(`mac-\d+`).FindString(p.must("ledger", "show", "signal:medina.machine/relay"))
	p.must("medina", "edit", "machine", relay, "size=large", "-as", "keeper-2")
	p.must("watch", "-now", "-quiet", "signal")
	p.must("propose", "-quiet")
	script, err := filepath.Abs("testdata/editor/neovim.lua")
	require.NoError(t, err)
	result := filepath.Join(t.TempDir(), "result.json")
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, nvim, "--clean", "--headless", "-u", "NONE", "-S", script)
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), "KASBAH_WHO=keeper-1", "XDG_CACHE_HOME="+filepath.Join(p.dir, "cache"), "ESTATE="+p.dir, "KASBAH=kasbah",
		"RESULT="+result, "XDG_STATE_HOME="+t.TempDir(), "XDG_DATA_HOME="+t.TempDir())
	said, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", said)
	body, err := os.ReadFile(result)
	require.NoError(t, err, "%s", said)
	var got map[string]any
	// days, times, runs and ids are others each time
	body = regexp.MustCompile(`\d{4}-\d\d-\d\d( [0-9:]{8})?|run [0-9A-Z]{8}|mac-\d+`).ReplaceAll(body, []byte("…"))
	require.NoError(t, json.Unmarshal(body, &got))
	for step, is := range got {
		if text, ok := is.(string); ok && strings.HasPrefix(text, "failed: ") {
			t.Errorf("%s: %s", step, text)
		}
	}
	file := "testdata/editor/neovim.json"
	if os.Getenv("EDITOR_STEPS") == "write" { // after a look at what is new
		body, err := json.MarshalIndent(got, "", "  ")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, append(body, '\n'), 0o644))
	}
	body, err = os.ReadFile(file)
	require.NoError(t, err)
	var want map[string]any
	require.NoError(t, json.Unmarshal(body, &want))
	require.Greater(t, len(want), 25)
	for step, is := range want {
		require.Equal(t, is, got[step], step)
	}
	require.Len(t, got, len(want))

	text := p.read("signal/signal.star")
	from := strings.Index(text, "relay = ")
	to := from + strings.Index(text[from:], "\n")
	p.file("signal/signal.star", text[:from]+got["rename of a resource"].(string)+text[to:])
	proposed := p.must("propose", "-offline")
	require.Contains(t, proposed, "rename", "the next run renames what was renamed")
	require.Contains(t, proposed, "1 renamed. ")
	require.NotContains(t, proposed, "dropped")
}
