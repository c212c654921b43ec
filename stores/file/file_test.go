package file_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/store"
	"kasbah/stores/file"
	"kasbah/stores/storetest"
)

func TestConformance(t *testing.T) {
	storetest.Run(t, func(t *testing.T) func() store.Store {
		dir := t.TempDir()
		return func() store.Store {
			s, err := file.Open(dir)
			require.NoError(t, err)
			return s
		}
	})
}

// A program that died while it wrote leaves a temporary file, which is no
// object; a file that is not ours is an error and not an object.
func TestStrangeFiles(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s, err := file.Open(dir)
	require.NoError(t, err)
	require.NoError(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("x")))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a/log/.new-01"), []byte("half"), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a/log/0000000002"), []byte("not ours"), 0o600))
	var keys []string
	for k, err := range s.List(ctx, "a/log/", "") {
		require.NoError(t, err)
		keys = append(keys, k)
	}
	require.Equal(t, []string{"a/log/0000000001", "a/log/0000000002"}, keys)
	_, err = s.Get(ctx, "a/log/0000000002")
	require.ErrorContains(t, err, "is not an object of a store")
}

// A full or read-only place is an error of the put, and nothing is taken.
func TestCannotWrite(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "ledger"), []byte("a file, no folder"), 0o600))
	s, err := file.Open(filepath.Join(dir, "ledger"))
	require.NoError(t, err)
	require.Error(t, s.PutIfAbsent(context.Background(), "a/log/0000000001", []byte("x")))
}
