package kits

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"golang.org/x/mod/semver"

	"kasbah/core/environ"
	"kasbah/core/estate"
)

// gitTime bounds one call of git.
const gitTime = 2 * time.Minute

// git runs the git program. It never asks anybody anything, and speaks only
// the protocols that its user allows for clones.
func git(ctx context.Context, dir string, args ...string) (string, error) {
	asked := ctx
	ctx, cancel := context.WithTimeout(ctx, gitTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, "git", append([]string{"-c", "core.hooksPath=/dev/null", "-c",
		"core.autocrlf=false", "-c", "advice.detachedHead=false"}, args...)...)
	cmd.Dir = dir
	cmd.Env = append(environ.For(), "GIT_TERMINAL_PROMPT=0", "GIT_ASKPASS=", "LC_ALL=C")
	var out, said bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &said
	err := cmd.Run()
	switch {
	case errors.Is(err, exec.ErrNotFound):
		return "", errors.New("the git program is needed for kits from repositories, and is not there")
	case asked.Err() != nil:
		return "", asked.Err()
	case ctx.Err() != nil:
		return "", fmt.Errorf("git took longer than %s", gitTime)
	case err != nil:
		text := strings.TrimSpace(said.String())
		if i := strings.LastIndexByte(text, '\n'); i >= 0 {
			text = text[i+1:]
		}
		return "", fmt.Errorf("git: %s", strings.TrimPrefix(text, "fatal: "))
	}
	return out.String(), nil
}

// clone gets a kit at its tag and keeps it in the cache.
func (o *Opener) clone(ctx context.Context, src estate.KitSource) (Fetched, error) {
	base := filepath.Join(o.Dir, ".kasbah", "kits")
	if err := os.MkdirAll(base, 0o755); err != nil {
		return Fetched{}, err
	}
	temp, err := os.MkdirTemp(base, ".fetch-*")
	if err != nil {
		return Fetched{}, err
	}
	defer os.RemoveAll(temp)
	whole := filepath.Join(temp, "clone")
	if _, err := git(ctx, o.Dir, "clone", "--quiet", "--depth", "1", "--branch", src.Tag, "--", src.Git,
		whole); err != nil {
		return Fetched{}, fmt.Errorf("%s cannot be fetched: %w", src, err)
	}
	if _, err := git(ctx, whole, "show-ref", "--verify", "--quiet", "refs/tags/"+src.Tag); err != nil {
		return Fetched{}, fmt.Errorf("%s cannot be used: %q is not a tag of it, and anything else may move", src,
			src.Tag)
	}
	commit, err := git(ctx, whole, "rev-parse", "HEAD")
	if err != nil {
		return Fetched{}, err
	}
	clean := filepath.Join(temp, "kit")
	if err := copyFiles(filepath.Join(whole, filepath.FromSlash(src.Path)), clean); err != nil {
		return Fetched{}, fmt.Errorf("%s: %w", src, err)
	}
	f := Fetched{Commit: strings.TrimSpace(commit)}
	if f.Digest, err = Digest(clean); err != nil {
		return Fetched{}, err
	}
	f.Dir = o.cached(src.Name, f.Digest)
	if d, err := Digest(f.Dir); err == nil && d == f.Digest {
		return f, nil // another process was first
	}
	if err := os.RemoveAll(f.Dir); err != nil { // what was altered in the cache
		return Fetched{}, err
	}
	if err := os.Rename(clean, f.Dir); err != nil {
		if d, other := Digest(f.Dir); other == nil && d == f.Digest {
			return f, nil // another process was quicker
		}
		return Fetched{}, err
	}
	return f, nil
}

func copyFiles(from, to string) error {
	return walk(from, func(rel string, body []byte) error {
		path := filepath.Join(to, filepath.FromSlash(rel))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return err
		}
		return os.WriteFile(path, body, 0o644)
	})
}

// Versions lists the tags of a kit's repository that are versions (Semantic
// Versioning 2.0.0, with a v), oldest first. A folder in front of the version,
// as in beam/v1.0.0, must be that of the tag in use.
func (o *Opener) Versions(ctx context.Context, src estate.KitSource) ([]string, error) {
	out, err := git(ctx, o.Dir, "ls-remote", "--tags", "--refs", "--", src.Git)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", src.Git, err)
	}
	prefix := src.Tag[:strings.LastIndexByte(src.Tag, '/')+1]
	var tags []string
	for _, line := range strings.Split(strings.TrimSpace(out), "\n") {
		_, ref, _ := strings.Cut(line, "refs/tags/")
		if v, ok := strings.CutPrefix(ref, prefix); ok && semver.IsValid(v) {
			tags = append(tags, ref)
		}
	}
	sort.Slice(tags, func(i, j int) bool { return semver.Compare(tags[i][len(prefix):], tags[j][len(prefix):]) < 0 })
	return tags, nil
}
