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
	r, problems, err := tidy.All(dir, []string{dir}, false)
	require.NoError(t, err)
	require.Empty(t, problems)
	require.Equal(t, []string{"b.star", "deep/a.star"}, r.Files, "it only says so")
	require.Equal(t, 2, r.Checked)
	for _, c := range []struct{ path, says string }{
		{"notes.txt", "notes.txt is not a *.star file"},
		{"none", "there is no file or folder"},
	} {
		t.Run(c.path, func(t *testing.T) {
			_, _, err = tidy.All(dir, []string{filepath.Join(dir, c.path)}, true)
			require.ErrorContains(t, err, c.says)
		})
	}

	first := filepath.Join(dir, "b.star")
	require.NoError(t, os.Chmod(first, 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "broken.star"), []byte("x = (\n"), 0o644))
	r, problems, err = tidy.All(dir, []string{dir}, true)
	require.NoError(t, err)
	require.Equal(t, []string{"b.star", "deep/a.star"}, r.Files)
	require.Equal(t, 1, problems.Wrong(), "what cannot be read does not keep the others")
	r, _, err = tidy.All(dir, []string{dir}, true)
	require.NoError(t, err)
	require.Empty(t, r.Files)
	info, err := os.Stat(first)
	require.NoError(t, err)
	require.Equal(t, fs.FileMode(0o600), info.Mode(), "the mode stays")
}
