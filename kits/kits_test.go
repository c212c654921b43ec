package kits_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/estate"
	"kasbah/kits"
)

func put(t testing.TB, path, body string) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
}

const gate = "name = \"gate\"\nversion = \"1.0.0\"\n"

// TestDigest: the digest moves with every byte, name and place of a file, and
// with nothing else.
func TestDigest(t *testing.T) {
	a, b := t.TempDir(), t.TempDir()
	for _, dir := range []string{a, b} {
		put(t, filepath.Join(dir, "kit.toml"), gate)
		put(t, filepath.Join(dir, "kit.star"), "x = 1\n")
		put(t, filepath.Join(dir, "tests", "a.star"), "")
	}
	put(t, filepath.Join(b, ".git", "HEAD"), "ref")
	require.NoError(t, os.MkdirAll(filepath.Join(b, "empty"), 0o755))
	require.NoError(t, os.Chmod(filepath.Join(b, "kit.star"), 0o600))
	digest := func(dir string) string {
		d, err := kits.Digest(dir)
		require.NoError(t, err)
		return d
	}
	first := digest(a)
	require.Equal(t, first, digest(b))
	require.Regexp(t, "^sha256:[0-9a-f]{64}$", first)
	seen := map[string]bool{first: true}
	for _, change := range []func(){
		func() { put(t, filepath.Join(b, "kit.star"), "x = 2\n") },
		func() { put(t, filepath.Join(b, "kit.star"), "") },
		func() { put(t, filepath.Join(b, "other.star"), "") },
		func() {
			require.NoError(t, os.Rename(filepath.Join(b, "other.star"), filepath.Join(b, "tests", "other.star")))
		},
		func() { require.NoError(t, os.Remove(filepath.Join(b, "tests", "a.star"))) },
	} {
		change()
		d := digest(b)
		require.False(t, seen[d], "every change shows")
		seen[d] = true
	}
	require.NoError(t, os.Symlink("/etc/passwd", filepath.Join(b, "link.star")))
	_, err := kits.Digest(b)
	require.ErrorContains(t, err, "kits hold no links")
	require.NoError(t, os.Truncate(filepath.Join(a, "kit.star"), 1<<40)) // a hole, which would fill all memory
	_, err = kits.Digest(a)
	require.ErrorContains(t, err, "which no kit does")
}

func open(t testing.TB, dir string, src estate.KitSource) error {
	o, err := kits.New(dir)
	require.NoError(t, err)
	all := o.Open(context.Background(), map[string]estate.KitSource{"gate": src})
	defer kits.Close(all)
	require.Equal(t, "gate", all["gate"].Name)
	return all["gate"].Err
}

func TestFolders(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	put(t, filepath.Join(outside, "kit.toml"), gate)
	put(t, filepath.Join(outside, "kit.star"), "x = 1\n")
	put(t, filepath.Join(dir, "kits", "gate", "kit.toml"), gate)
	require.NoError(t, os.Symlink(outside, filepath.Join(dir, "kits", "linked")))
	put(t, filepath.Join(dir, "kits", "other", "kit.toml"), "name = \"other\"\nversion = \"1.0.0\"\n")
	put(t, filepath.Join(dir, "kits", "bare", "kit.star"), "")
	put(t, filepath.Join(dir, "kits", "wrong", "kit.toml"), "name = \"gate\"\nversio = \"1\"\n")

	in := func(folder string) estate.KitSource { return estate.KitSource{Name: "gate", Folder: folder} }
	require.NoError(t, open(t, dir, in("kits/gate")), "a folder of the estate needs no pin")
	require.ErrorContains(t, open(t, dir, in("kits/linked")), "escapes", "a link out of the estate is refused")
	require.ErrorContains(t, open(t, dir, in("kits/missing")), "no such file")
	require.ErrorContains(t, open(t, dir, in("kits/bare")), "holds no kit.toml")
	require.ErrorContains(t, open(t, dir, in("kits/other")),
		`the kit calls itself "other", and kasbah.toml calls it "gate"`)
	require.ErrorContains(t, open(t, dir, in("kits/wrong")), `unknown key "versio"`)

	// a folder elsewhere must be pinned, and stay as it was
	src := in(outside)
	require.ErrorContains(t, open(t, dir, src), "is not pinned")
	o, err := kits.New(dir)
	require.NoError(t, err)
	f, err := o.Fetch(context.Background(), src)
	require.NoError(t, err)
	o.Pins.Set(estate.Pin{Name: "gate", Source: src.String(), Version: "1.0.0", Digest: f.Digest})
	body, err := o.Pins.Encode()
	require.NoError(t, err)
	put(t, filepath.Join(dir, "pins.toml"), string(body))
	require.NoError(t, open(t, dir, src))
	put(t, filepath.Join(outside, "kit.star"), "x = 2\n")
	require.ErrorContains(t, open(t, dir, src), "the pin or the kit was altered")

	put(t, filepath.Join(dir, "pins.toml"), strings.Replace(string(body), "digest", "digst", 1))
	_, err = kits.New(dir)
	require.ErrorContains(t, err, `unknown key "kit.digst"`)
}

// TestRepositories: hostile repositories and tags are refused before git sees them,
// and what git says is passed on.
func TestRepositories(t *testing.T) {
	if err := open(t, t.TempDir(), estate.KitSource{Name: "gate", Git: "x", Tag: "v1.0.0"}); err == nil ||
		!strings.Contains(err.Error(), "is not pinned") {
		t.Errorf("a repository is used without a pin: %v", err)
	}
	o, err := kits.New(t.TempDir())
	require.NoError(t, err)
	_, err = o.Fetch(context.Background(), estate.KitSource{Name: "gate", Git: filepath.Join(t.TempDir(), "nothing"),
		Tag: "v1.0.0"})
	require.ErrorContains(t, err, "cannot be fetched")
	_, err = o.Versions(context.Background(), estate.KitSource{Name: "gate", Git: filepath.Join(t.TempDir(), "nothing"),
		Tag: "v1.0.0"})
	require.ErrorContains(t, err, "git")
	canceled, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = o.Fetch(canceled, estate.KitSource{Name: "gate", Git: "x", Tag: "v1.0.0"})
	require.Error(t, err)
	left, err := filepath.Glob(filepath.Join(o.Dir, ".kasbah", "kits", ".fetch-*"))
	require.NoError(t, err)
	require.Empty(t, left, "nothing half-fetched stays behind")
}
