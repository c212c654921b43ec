package recall_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"kasbah/core/recall"
	"kasbah/core/seal"
)

type thing struct{ Words []string }

// TestFile: what was written is read by the same program, from a folder of the person alone; nothing where there is
// nothing, where another program wrote it, or it is damaged.
func TestFile(t *testing.T) {
	f := recall.File{Path: filepath.Join(t.TempDir(), "kasbah", "x"), Program: "one"}
	is := thing{}
	there, err := f.Read(&is)
	require.NoError(t, err)
	require.False(t, there)
	require.NoError(t, f.Write(thing{[]string{"tide", "salt"}}))
	require.NoError(t, f.Write(thing{[]string{"tide"}}))
	there, err = f.Read(&is)
	require.NoError(t, err)
	require.True(t, there)
	require.Equal(t, []string{"tide"}, is.Words)
	entries, err := os.ReadDir(filepath.Dir(f.Path))
	require.NoError(t, err)
	require.Len(t, entries, 1)
	info, err := os.Stat(f.Path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	other := f
	other.Program = "two"
	there, err = other.Read(&is)
	require.NoError(t, err)
	require.False(t, there)
	whole, err := os.ReadFile(f.Path)
	require.NoError(t, err)
	for i := range whole {
		damaged := append([]byte(nil), whole...)
		damaged[i] ^= 4
		require.NoError(t, os.WriteFile(f.Path, damaged, 0o600))
		there, err = f.Read(&is)
		require.False(t, there && err == nil, "byte %d", i)
		require.NoError(t, os.WriteFile(f.Path, whole[:i], 0o600))
		there, err = f.Read(&is)
		require.False(t, there && err == nil, "cut at %d", i)
	}
}

// TestSealed: with a sealed ledger nothing is readable without an identity.
func TestSealed(t *testing.T) {
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	box, err := seal.NewBox(seal.Pin{}, []string{id.Recipient().String()}, func() ([]age.Identity, error) { return []age.Identity{id}, nil })
	require.NoError(t, err)
	f := recall.File{Path: filepath.Join(t.TempDir(), "x"), Program: "one", Box: box}
	require.NoError(t, f.Write(thing{[]string{"tide"}}))
	body, err := os.ReadFile(f.Path)
	require.NoError(t, err)
	require.NotContains(t, string(body), "tide")
	is := thing{}
	there, err := f.Read(&is)
	require.NoError(t, err)
	require.True(t, there)
	require.Equal(t, []string{"tide"}, is.Words)
}

// TestSweep: what was of no use for a month goes, and nothing else.
func TestSweep(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, recall.Sweep(filepath.Join(dir, "none")))
	for name, age := range map[string]time.Duration{"old": 31, "young": 29} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
		at := time.Now().Add(-age * 24 * time.Hour)
		require.NoError(t, os.Chtimes(filepath.Join(dir, name), at, at))
	}
	require.NoError(t, recall.Sweep(dir))
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 1)
	require.Equal(t, "young", entries[0].Name())
}
