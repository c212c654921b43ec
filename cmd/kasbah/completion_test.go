//go:build unix

package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
)

// shell is a real shell at a terminal of its own.
type shell struct {
	t   *testing.T
	tty *os.File
	mu  sync.Mutex
	out strings.Builder
}

// startShell starts a shell in the program's estate. It ends with the test.
func (p *program) startShell(args ...string) *shell {
	path, err := exec.LookPath(args[0])
	if err != nil {
		p.t.Skipf("there is no %s here", args[0])
	}
	cmd := exec.Command(path, args[1:]...)
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), append(p.env, "KASBAH_WHO=keeper-1", "TERM=xterm", "PS1=ready> ", "PROMPT=ready> ",
		"LC_ALL=C.UTF-8",
		"HOME="+p.t.TempDir(), "XDG_CACHE_HOME="+filepath.Join(p.dir, "cache"))...)
	s := &shell{t: p.t}
	s.tty, err = pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 200})
	require.NoError(p.t, err)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		buf := make([]byte, 1<<12)
		for {
			n, err := s.tty.Read(buf)
			s.mu.Lock()
			s.out.Write(buf[:n])
			s.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	p.t.Cleanup(func() {
		_ = cmd.Process.Kill() // it may have ended
		_ = cmd.Wait()
		_ = s.tty.Close()
		<-ended
	})
	return s
}

var codes = regexp.MustCompile(`\x1b\[[0-9;?>=]*[A-Za-z]|\x1b[()][A-Z0-9]|\x1b[=>]|\x1b\][^\x07]*\x07|\r`)

func (s *shell) text() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return codes.ReplaceAllString(s.out.String(), "")
}

func (s *shell) key(keys string) {
	s.t.Helper()
	_, err := s.tty.WriteString(keys)
	require.NoError(s.t, err)
}

// until waits until the terminal has shown something since a while.
func (s *shell) until(since int, words string) string {
	s.t.Helper()
	var shown string
	require.Eventually(s.t, func() bool {
		text := s.text()
		shown = text[min(since, len(text)):]
		return regexp.MustCompile(words).MatchString(shown)
	}, time.Minute, 10*time.Millisecond, "%s is not shown; there is: %q", words, s.text()[since:])
	return shown
}

// finished is the line that typing and a tab make.
func (s *shell) finished(typed string) string {
	s.t.Helper()
	s.key(typed + "\t")
	time.Sleep(250 * time.Millisecond) // the shell asks the program
	since := len(s.text())
	s.key("\x01echo got \x05\r")
	shown := s.until(since, `(?m)^got .*\n`)
	time.Sleep(50 * time.Millisecond)
	return strings.TrimRight(regexp.MustCompile(`(?m)^got (.*)\n`).FindStringSubmatch(shown)[1], " ")
}

// TestShells: bash, zsh and fish finish commands, flags, values, environments, wards, addresses, files, kits,
// types and Medina's things, at a terminal.
func TestShells(t *testing.T) {
	t.Parallel()
	p := lanternCoast(t)
	p.must("propose", "-quiet")
	p.file("shore/more words.txt", "")
	for name, begin := range map[string][]string{
		"bash": {"source <(kasbah completion bash); echo begun", "bash", "--norc", "--noprofile", "-i"},
		"zsh": {"autoload -Uz compinit; compinit -u -d ./dump; source <(kasbah completion zsh); echo begun", "zsh", "-f",
			"-i"},
		"fish": {"kasbah completion fish | source; echo begun", "fish", "--no-config", "-i"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			here := *p
			here.t = t
			s := here.startShell(begin[1:]...)
			time.Sleep(300 * time.Millisecond)
			s.key(begin[0] + "\r")
			s.until(0, `(?m)^begun\n`)
			for typed, want := range map[string]string{
				"kasbah prop":                        "kasbah propose",
				"kasbah propose -exi":                "kasbah propose -exit-code",
				"kasbah propose -form mark":          "kasbah propose -form markdown",
				"kasbah propose -env li":             "kasbah propose -env live",
				"kasbah check sig":                   "kasbah check signal",
				"kasbah why signal:medina.mac":       "kasbah why signal:medina.machine/relay",
				"kasbah ledger res":                  "kasbah ledger res",
				"kasbah ledger restor":               "kasbah ledger restore",
				"kasbah kit show look":               "kasbah kit show lookout",
				"kasbah medina show mach":            "kasbah medina show machine",
				"kasbah medina show subnet sub-0001": "kasbah medina show subnet sub-0001",
				"kasbah types medina.net":            "kasbah types medina.network",
				"kasbah help exit":                   "kasbah help exit-codes",
				"kasbah -C /nowhere prop":            "kasbah -C /nowhere propose",
				"kasbah published signal rel":        "kasbah published signal relay",
				"kasbah propose -input li":           "kasbah propose -input lights=",
				"kasbah no-such-comm":                "kasbah no-such-comm",
				"kasbah tidy shore/shore.s":          "kasbah tidy shore/shore.star",
				"kasbah map -at decl":                "kasbah map -at declared",
			} {
				got := s.finished(typed)
				for try := 0; got == typed && got != want && try < 20; try++ { // a busy machine takes longer than a shell waits
					got = s.finished(typed)
				}
				require.Equal(t, want, got, typed)
			}
			since := len(s.text())
			s.key("kasbah ledger \t\t")
			s.until(since, `compare[\s\S]*verify`)
		})
	}
}
