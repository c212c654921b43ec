package process

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
)

// TestKilledWithUs: a child of a program that is killed in the middle of a call does not
// carry it out afterwards.
func TestKilledWithUs(t *testing.T) {
	done := filepath.Join(t.TempDir(), "done")
	if os.Getenv("ORPHAN_PARENT") == "" {
		cmd := exec.Command(os.Args[0], "-test.run", "^TestKilledWithUs$")
		cmd.Env = append(os.Environ(), "ORPHAN_PARENT="+done)
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { _, err := os.Stat(done + ".begun"); return err == nil }, time.Minute,
			10*time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait() // it was killed
		time.Sleep(2 * time.Second)
		require.NoFileExists(t, done, "nobody waits for it, and another run has found out about it")
		return
	}
	require.NoError(t, os.Setenv("DRIVER_ROLE", "late"))
	d := opened(t, Options{Command: []string{os.Args[0]}})
	// it is killed meanwhile
	_, _ = d.Create(context.Background(), "lamp", value.Map{"name": os.Getenv("ORPHAN_PARENT")}, "key")
}
