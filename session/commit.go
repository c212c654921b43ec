package session

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"kasbah/core/environ"
)

// gitTime bounds the questions about the commit. They are asked for the history alone.
const gitTime = 5 * time.Second

// Commit is the commit of the estate's repository, with `, changed` behind it where files of
// the estate are not as committed; "" where there is no repository or no git.
func (s *Session) Commit(ctx context.Context) string {
	if !inRepository(s.Estate.Dir) {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, gitTime)
	defer cancel()
	head, err := askGit(ctx, s.Estate.Dir, nil, "rev-parse", "--verify", "HEAD")
	if err != nil {
		return ""
	}
	changed, err := askGit(ctx, s.Estate.Dir, nil, "status", "--porcelain", "--", ".")
	switch {
	case err != nil:
		return ""
	case changed != "":
		return head + ", changed"
	}
	return head
}

// askGit asks git in a folder and returns its answer. It changes nothing in the repository.
func askGit(ctx context.Context, dir string, env []string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", append([]string{"-c", "core.fsmonitor=false"}, args...)...)
	cmd.Dir, cmd.Env = dir, append(append(environ.For(), "GIT_OPTIONAL_LOCKS=0", "GIT_TERMINAL_PROMPT=0"), env...)
	out, err := cmd.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) && len(exit.Stderr) > 0 {
		err = errors.New(strings.TrimPrefix(strings.TrimSpace(string(exit.Stderr)), "fatal: "))
	}
	return strings.TrimSpace(string(out)), err
}

// git runs git in a folder.
func git(ctx context.Context, dir string, args ...string) error {
	cmd := exec.CommandContext(ctx, "git", append([]string{"-c", "core.fsmonitor=false"}, args...)...)
	cmd.Dir, cmd.Env = dir, append(environ.For("EMAIL", "GIT_AUTHOR_NAME", "GIT_AUTHOR_EMAIL", "GIT_COMMITTER_NAME",
		"GIT_COMMITTER_EMAIL"), "GIT_TERMINAL_PROMPT=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(string(out)))
	}
	return nil
}

// inRepository reports whether a folder is inside of a git repository.
func inRepository(dir string) bool {
	for {
		if _, err := os.Stat(filepath.Join(dir, ".git")); err == nil {
			return true
		}
		up := filepath.Dir(dir)
		if up == dir {
			return false
		}
		dir = up
	}
}
