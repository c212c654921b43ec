package session

import (
	"context"
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
	ask := func(args ...string) (string, error) {
		cmd := exec.CommandContext(ctx, "git", append([]string{"-c", "core.fsmonitor=false"}, args...)...)
		cmd.Dir, cmd.Env = s.Estate.Dir, append(environ.For(), "GIT_OPTIONAL_LOCKS=0", "GIT_TERMINAL_PROMPT=0")
		out, err := cmd.Output()
		return strings.TrimSpace(string(out)), err
	}
	head, err := ask("rev-parse", "--verify", "HEAD")
	if err != nil {
		return ""
	}
	changed, err := ask("status", "--porcelain", "--", ".")
	switch {
	case err != nil:
		return ""
	case changed != "":
		return head + ", changed"
	}
	return head
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
