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

// branchVariable names the branch where a repository cannot: pipelines often have a commit checked out, and none.
const branchVariable = "KASBAH_BRANCH"

// Source is where the estate's files are from.
type Source struct {
	Commit string // "" where there is no repository or no git
	Branch string // "" where it is not known
	Clean  bool   // the files are as committed
}

// Source asks git where the files of the estate are from, once.
func (s *Session) Source(ctx context.Context) Source {
	is, _ := s.source.get(func() (Source, error) { return s.askSource(ctx), nil }) // no error: nothing is known then
	return is
}

func (s *Session) askSource(ctx context.Context) (is Source) {
	is.Branch = os.Getenv(branchVariable)
	if !inRepository(s.Estate.Dir) {
		return is
	}
	ctx, cancel := context.WithTimeout(ctx, gitTime)
	defer cancel()
	head, err := askGit(ctx, s.Estate.Dir, nil, "rev-parse", "--verify", "HEAD")
	if err != nil {
		return is
	}
	changed, err := askGit(ctx, s.Estate.Dir, nil, "status", "--porcelain", "--", ".")
	if err != nil {
		return is
	}
	is.Commit, is.Clean = head, changed == ""
	if branch, err := askGit(ctx, s.Estate.Dir, nil, "symbolic-ref", "--quiet", "--short",
		"HEAD"); err == nil { // else none is checked out
		is.Branch = branch
	}
	return is
}

// Commit is the commit of the estate's repository, with `, changed` behind it where files of
// the estate are not as committed; "" where there is no repository or no git.
func (s *Session) Commit(ctx context.Context) string {
	is := s.Source(ctx)
	if is.Commit != "" && !is.Clean {
		return is.Commit + ", changed"
	}
	return is.Commit
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
