//go:build unix

package main

import (
	"bytes"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// heard is what a running program has said so far.
type heard struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (h *heard) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.b.Write(p)
}

func (h *heard) String() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.b.String()
}

// TestTwoAtOnce: one enact wins; the other is told who holds the lock and
// ends with 4, or waits and goes on. Proposing works all the while. The first
// one is held still meanwhile, so that nothing depends on who is quick.
func TestTwoAtOnce(t *testing.T) {
	p := newProgram(t, "0.05", 6)
	first := p.command("enact", "-yes")
	require.NoError(t, first.Start())
	t.Cleanup(func() { _ = first.Process.Kill() })
	require.Eventually(t, func() bool {
		out, _ := p.run("lock")
		return strings.Contains(out, " of 17")
	}, time.Minute, 5*time.Millisecond)
	require.NoError(t, first.Process.Signal(syscall.SIGSTOP))
	out, code := p.run("enact", "-yes")
	require.Equal(t, 4, code, out)
	for _, want := range []string{"refused: shore (trial) is locked", "keeper-1 on ", "kasbah enact -yes, since ",
		" of 17 done", "-wait 10m", "kasbah lock break "} {
		require.Contains(t, out, want)
	}
	require.NotContains(t, out, "no longer runs", "a program that stands still is not dead")
	out, code = p.run("propose")
	require.Zero(t, code, out)

	var said heard
	second := p.command("enact", "-yes", "-wait", "1m")
	second.Stdout, second.Stderr = &said, &said
	require.NoError(t, second.Start())
	t.Cleanup(func() { _ = second.Process.Kill() })
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "waiting for keeper-1") },
		time.Minute, 5*time.Millisecond)
	require.NoError(t, first.Process.Signal(syscall.SIGCONT))
	require.NoError(t, first.Wait())
	require.NoError(t, second.Wait(), said.String())
	require.Contains(t, said.String(), "Nothing to do: all 17 resources are as declared.")
	require.Contains(t, p.must("ledger", "verify"), "whole")
}

// TestPausedWriter: a program that stood still while its lock was broken wakes,
// ends the call that was under way, and then neither writes nor calls again.
func TestPausedWriter(t *testing.T) {
	p := newProgram(t, "0.02", 6)
	var said heard
	first := p.command("enact", "-yes", "-parallel", "1")
	first.Stdout, first.Stderr = &said, &said
	require.NoError(t, first.Start())
	t.Cleanup(func() { _ = first.Process.Kill() })
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "2 of 17") }, 20*time.Second,
		time.Millisecond)
	require.NoError(t, first.Process.Signal(syscall.SIGSTOP))
	p.must("lock", "break", p.holder(), "-why", "it stands still")
	before, entries := strings.Count(p.must("medina", "events"), "\n"), p.must("ledger", "verify")
	require.NoError(t, first.Process.Signal(syscall.SIGCONT))
	require.Error(t, first.Wait())
	require.Contains(t, said.String(), "the lock of this run was taken away")
	require.LessOrEqual(t, strings.Count(p.must("medina", "events"), "\n"), before+1, "only what was under way")
	require.Equal(t, entries, p.must("ledger", "verify"), "not an entry more")
	p.must("enact", "-yes")
	require.Contains(t, p.must("propose", "-exit-code"), "all 17 resources are as declared")
}
