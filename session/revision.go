package session

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/problem"
)

// revision is an estate as a commit has it, in a folder of its own.
type revision struct {
	commit string
	dir    string   // of the estate
	moved  []string // files that are not as in the commit, from the estate's folder
	whole  string   // the folder that holds it all
}

// atRevision writes the files of a commit into a temporary folder. It changes nothing in the repository.
func atRevision(ctx context.Context, dir, rev string) (r *revision, err error) {
	if !inRepository(dir) {
		return nil, problem.Usage("-since needs a git repository, and %s is in none", dir)
	}
	r = &revision{}
	if r.commit, err = askGit(ctx, dir, nil, "rev-parse", "--verify", "--quiet", "--end-of-options",
		rev+"^{commit}"); err != nil {
		return nil, &problem.UsageError{Message: fmt.Sprintf("-since: %q is not a commit of this repository", rev),
			Hint: "`git fetch` gets what is not here"}
	}
	below, err := askGit(ctx, dir, nil, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, err
	}
	below = strings.TrimSuffix(below, "/")
	if r.moved, err = movedSince(ctx, dir, r.commit); err != nil {
		return nil, err
	}
	if r.whole, err = os.MkdirTemp("", "kasbah-"); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, r.Close())
		}
	}()
	index := []string{"GIT_INDEX_FILE=" + filepath.Join(r.whole, "index")}
	if _, err = askGit(ctx, dir, index, "read-tree", r.commit); err != nil {
		return nil, err
	}
	top, err := askGit(ctx, dir, nil, "rev-parse", "--show-toplevel")
	if err != nil {
		return nil, err
	}
	tree := filepath.Join(r.whole, "tree")
	if _, err = askGit(ctx, top, index, "checkout-index", "--all", "--prefix="+tree+"/"); err != nil {
		return nil, err
	}
	r.dir = filepath.Join(tree, filepath.FromSlash(below))
	if _, err = os.Stat(filepath.Join(r.dir, estate.File)); err != nil {
		return nil, problem.Usage("%s does not hold the estate: no %s there", rev, estate.File)
	}
	return r, r.share(dir)
}

// share has the kits that were fetched for the present files stand for those of the commit: each is kept by its
// digest, so they are the same.
func (r *revision) share(dir string) error {
	fetched := filepath.Join(dir, ".kasbah", "kits")
	if _, err := os.Stat(fetched); err != nil {
		return nil // none were
	}
	if err := os.MkdirAll(filepath.Join(r.dir, ".kasbah"), 0o755); err != nil {
		return err
	}
	if err := os.Symlink(fetched, filepath.Join(r.dir, ".kasbah", "kits")); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	return nil
}

// Close removes the folder.
func (r *revision) Close() error { return os.RemoveAll(r.whole) }

// movedSince lists the files of a folder that are not as in a commit, those included that git does not know yet.
func movedSince(ctx context.Context, dir, commit string) ([]string, error) {
	changed, err := askGit(ctx, dir, nil, "diff", "--name-only", "--no-renames", "--relative", "-z", commit, "--", ".")
	if err != nil {
		return nil, err
	}
	unknown, err := askGit(ctx, dir, nil, "ls-files", "--others", "--exclude-standard", "-z", "--", ".")
	if err != nil {
		return nil, err
	}
	var out []string
	for _, name := range bytes.Split([]byte(changed+"\x00"+unknown), []byte{0}) {
		if len(name) > 0 {
			out = append(out, string(name))
		}
	}
	return out, nil
}
