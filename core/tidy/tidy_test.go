package tidy_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/problem"
	"kasbah/core/tidy"
)

func TestText(t *testing.T) {
	for _, c := range []struct{ name, body, is, says string }{
		{name: "spaces", body: "x=1\ny  = [ 1,2 ]\n", is: "x = 1\ny = [1, 2]\n"},
		{name: "comments stay", body: "# first\nx = 1 # one\n", is: "# first\nx = 1  # one\n"},
		{name: "empty", body: "", is: ""},
		{name: "not readable", body: "x = (\n", says: "syntax error"},
	} {
		t.Run(c.name, func(t *testing.T) {
			once, err := tidy.Text("a.star", []byte(c.body))
			if c.says != "" {
				var at *problem.Problem
				require.ErrorAs(t, err, &at)
				require.ErrorContains(t, err, c.says)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.is, string(once))
			twice, err := tidy.Text("a.star", once)
			require.NoError(t, err)
			require.Equal(t, once, twice, "what is tidy stays as it is")
		})
	}
}

func TestFiles(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"b.star", "deep/a.star", ".hidden/c.star", "notes.txt"} {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("x=1\n"), 0o644))
	}
	files, err := tidy.Files(dir)
	require.NoError(t, err)
	require.Equal(t, []string{filepath.Join(dir, "b.star"), filepath.Join(dir, "deep/a.star")}, files)
	require.Equal(t, "deep/a.star", tidy.ShortPath(dir, files[1]))
	_, err = tidy.Files(filepath.Join(dir, "notes.txt"))
	require.ErrorContains(t, err, "notes.txt is not a *.star file")
	_, err = tidy.Files(filepath.Join(dir, "none"))
	require.ErrorContains(t, err, "there is no file or folder")

	changed, err := tidy.File(files[0], "b.star", false)
	require.NoError(t, err)
	require.True(t, changed, "it only says so")
	require.NoError(t, os.Chmod(files[0], 0o600))
	changed, err = tidy.File(files[0], "b.star", true)
	require.NoError(t, err)
	require.True(t, changed)
	changed, err = tidy.File(files[0], "b.star", true)
	require.NoError(t, err)
	require.False(t, changed)
	info, err := os.Stat(files[0])
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o600), info.Mode(), "the mode stays")
}
