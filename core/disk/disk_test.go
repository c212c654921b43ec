package disk_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/disk"
)

func TestReadAndReplace(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "charts")
	require.NoError(t, disk.Replace(path, []byte("first"), 0o600))
	require.NoError(t, disk.Replace(path, []byte("second"), 0o600))
	body, err := disk.Read(path, 6)
	require.NoError(t, err)
	require.Equal(t, "second", string(body))
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o600), info.Mode())
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, left, 1, "no temporary file stays")

	require.NoError(t, os.Chmod(path, 0o644))
	require.NoError(t, disk.ReplacePrivate(path, []byte("secret")))
	info, err = os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o600), info.Mode())

	_, err = disk.Read(path, 5)
	var large *disk.TooLargeError
	require.ErrorAs(t, err, &large)
	require.ErrorContains(t, err, "charts is larger than 5 bytes")
	_, err = disk.Read(filepath.Join(dir, "none"), 5)
	require.ErrorIs(t, err, fs.ErrNotExist)

	err = disk.Replace(filepath.Join(dir, "none", "charts"), nil, 0o600)
	require.ErrorContains(t, err, filepath.Join("none", "charts")+" could not be written: ")
	require.ErrorIs(t, err, fs.ErrNotExist)
}
