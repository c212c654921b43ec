package main

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	crand "crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"kasbah/cli"
	"kasbah/drivers/openapi/examples/harbour"
	"kasbah/medina"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){
		"kasbah":          func() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) },
		"age-plugin-lamp": lampPlugin,
	})
}

// TestScripts drives the program as people do, one file a behaviour.
func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Setup: func(e *testscript.Env) error {
			examples, err := filepath.Abs("../../drivers/process/examples")
			if err != nil {
				return err
			}
			e.Setenv("EXAMPLES", examples)
			e.Setenv("PIPELINE", filepath.Join(examples, "../../../demo/pipeline"))
			e.Setenv("KASBAH_WHO", "keeper-1")
			e.Setenv("PART", fmt.Sprint(os.Getpid())) // for short paths: that of a socket must be short
			e.Setenv("XDG_CONFIG_HOME", filepath.Join(e.WorkDir, "config"))
			e.Setenv("XDG_CACHE_HOME", filepath.Join(e.WorkDir, "cache"))
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"exits":   exits,
			"schema":  matchesSchema,
			"sarif":   validSARIF,
			"newkey":  newKey,
			"expand":  expand,
			"alter":   alter,
			"harbour": startHarbour,
		},
	})
}

// exits runs a command and wants an exit code: `exits 3 kasbah survey`.
func exits(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: exits CODE COMMAND…")
	}
	err := ts.Exec(args[1], args[2:]...)
	code := 0
	var exit *exec.ExitError
	switch {
	case err == nil:
	case asExit(err, &exit):
		code = exit.ExitCode()
	default:
		ts.Fatalf("%v", err)
	}
	if fmt.Sprint(code) != args[0] {
		ts.Fatalf("exit code %d, not %s", code, args[0])
	}
}

// startHarbour runs an API that knows nothing of Kasbah; HARBOUR then holds its
// URL, and its two documents stand in the work folder.
func startHarbour(ts *testscript.TestScript, _ bool, _ []string) {
	s := httptest.NewServer((&harbour.API{Building: 5 * time.Millisecond}).Handler())
	ts.Defer(s.Close)
	ts.Setenv("HARBOUR", s.URL+"/api/v2")
	ts.Check(os.WriteFile(ts.MkAbs("harbour.openapi.yaml"), harbour.Document, 0o644))
	ts.Check(os.WriteFile(ts.MkAbs("harbour.overlay.yaml"), harbour.Overlay, 0o644))
}

// newKey makes an Ed25519 key: `newkey NAME` writes the private one to the file
// NAME, and the variable NAME then holds the public one.
func newKey(ts *testscript.TestScript, _ bool, args []string) {
	public, private, err := ed25519.GenerateKey(crand.Reader)
	ts.Check(err)
	block, err := ssh.MarshalPrivateKey(private, "")
	ts.Check(err)
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), pem.EncodeToMemory(block), 0o600))
	k, err := ssh.NewPublicKey(public)
	ts.Check(err)
	ts.Setenv(args[0], strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k))))
}

// expand puts variables into a file: `expand FILE`.
func expand(ts *testscript.TestScript, _ bool, args []string) {
	ts.Check(os.WriteFile(ts.MkAbs(args[0]), []byte(os.Expand(ts.ReadFile(args[0]), ts.Getenv)), 0o644))
}

// alter copies a file but for one letter in its middle: `alter FROM TO`.
func alter(ts *testscript.TestScript, _ bool, args []string) {
	body := []byte(ts.ReadFile(args[0]))
	at := len(body) / 2
	for !('a' <= body[at] && body[at] < 'z') {
		at++
	}
	body[at]++
	ts.Check(os.WriteFile(ts.MkAbs(args[1]), body, 0o600))
}

func asExit(err error, into **exec.ExitError) bool {
	e, ok := err.(*exec.ExitError)
	*into = e
	return ok
}

// patient asks servers that may be busy.
var patient = http.Client{Timeout: time.Minute}

// program is the program in an estate of its own, outside of scripts.
type program struct {
	t   *testing.T
	dir string
	env []string // besides the usual
}

func newProgram(t *testing.T, pace string, machines int) *program {
	p := &program{t: t, dir: t.TempDir()}
	p.file("kasbah.toml", fmt.Sprintf("estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = "+
		"\"medina\"\npace = %s\n[env.trial.inputs]\nn = %d\n", pace, machines))
	p.file("shore/shore.star", `
n = input("n", kind.int)
image = input("image", default = "stone-1")
span = input("span", kind.cidr, default = "10.0.0.0/16")
net = medina.network("coast", range = span)
quays = [medina.subnet("quay-%d" % i, network = net, range = cidr.slice(span, 24, i)) for i in range(4)]
gauges = [medina.machine("gauge-%d" % i, subnet = quays[i % 4], size = "small", image = image) for i in range(n)]
[medina.disk("tape-%d" % i, machine = g, gigabytes = 10) for i, g in enumerate(gauges)]
`)
	return p
}

func (p *program) file(name, body string) {
	path := filepath.Join(p.dir, name)
	require.NoError(p.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(p.t, os.WriteFile(path, []byte(body), 0o644))
}

func (p *program) command(args ...string) *exec.Cmd {
	cmd := exec.Command("kasbah", args...)
	cmd.Dir = p.dir
	cmd.Env = append(os.Environ(), append(p.env, "KASBAH_WHO=keeper-1", "NO_COLOR=1",
		"XDG_CACHE_HOME="+filepath.Join(p.dir, "cache"))...)
	return cmd
}

func (p *program) run(args ...string) (string, int) {
	out, err := p.command(args...).CombinedOutput()
	var exit *exec.ExitError
	if asExit(err, &exit) {
		return string(out), exit.ExitCode()
	}
	require.NoError(p.t, err)
	return string(out), 0
}

func (p *program) must(args ...string) string {
	out, code := p.run(args...)
	require.Zero(p.t, code, "%v\n%s", args, out)
	return out
}

func (p *program) untilLocked() {
	require.Eventually(p.t, func() bool {
		out, _ := p.run("lock")
		return strings.Contains(out, "keeper-1")
	}, time.Minute, 5*time.Millisecond)
}

// holder is the one run that holds a lock.
func (p *program) holder() string {
	var locks struct{ Holders []struct{ Run string } }
	require.NoError(p.t, json.Unmarshal([]byte(p.must("lock", "-json")), &locks))
	require.Len(p.t, locks.Holders, 1)
	return locks.Holders[0].Run
}

// TestKill kills the program in the middle, again and again, and goes on
// each time: at the end Medina holds exactly what is declared.
func TestKill(t *testing.T) {
	if testing.Short() {
		t.Skip("kills the program for some seconds")
	}
	p := newProgram(t, "0.002", 30)
	rnd := rand.New(rand.NewPCG(1, 2))
	killed := 0
	for i := range 40 {
		// every fourth round swaps all machines, new ones first; every eighth
		// swaps the network and all on it, old ones first; disks come and go
		cmd := p.command("enact", "-yes", "-allow", "data", "-break-stale", "-input", fmt.Sprintf("image=stone-%d",
			i/4),
			"-input", fmt.Sprintf("span=10.%d.0.0/16", i/8), "-input", fmt.Sprintf("n=%d", 22+4*(i%3)))
		var out bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &out
		require.NoError(t, cmd.Start())
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		select {
		case err := <-done:
			require.NoError(t, err, out.String())
		case <-time.After(time.Duration(30+rnd.IntN(220)) * time.Millisecond):
			if err := cmd.Process.Kill(); !errors.Is(err, os.ErrProcessDone) {
				require.NoError(t, err)
			}
			if err := <-done; err != nil {
				killed++
			}
		}
	}
	require.GreaterOrEqual(t, killed, 10)
	last := []string{"-input", "image=stone-last", "-input", "span=10.99.0.0/16", "-input", "n=30"}
	p.must(append([]string{"enact", "-yes", "-allow", "data", "-break-stale"}, last...)...)
	require.Contains(t, p.must(append([]string{"propose", "-exit-code"}, last...)...),
		"all 65 resources are as declared")
	verify := p.must("ledger", "verify")
	require.Contains(t, verify, "whole")
	require.NotContains(t, verify, "ignored")
	var held struct{ Items []map[string]any }
	require.NoError(t, json.Unmarshal([]byte(p.must("medina", "list", "-json")), &held))
	require.Len(t, held.Items, 65, "no orphan and no duplicate")
	t.Logf("killed %d times", killed)
}

// TestMedinaOnItsOwn: the simulated cloud as a server that estates and
// people reach by its URL.
func TestMedinaOnItsOwn(t *testing.T) {
	p := newProgram(t, "0", 2)
	db := filepath.Join(t.TempDir(), "own.db")
	serve := p.command("medina", "serve", "-address", "127.0.0.1:0", "-path", db, "-pace", "0")
	out, err := serve.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, serve.Start())
	t.Cleanup(func() { _ = serve.Process.Kill() }) // it has ended already, unless the test fails
	told := map[string]string{}
	for lines := bufio.NewScanner(out); len(told) < 5 && lines.Scan(); {
		what, is, ok := strings.Cut(lines.Text(), "  ")
		if !ok {
			what, is, ok = strings.Cut(lines.Text(), " https:")
			is = "https:" + is
		}
		require.True(t, ok, lines.Text())
		told[what] = strings.TrimSpace(is)
	}
	url := told["Medina at"]
	require.True(t, strings.HasPrefix(url, "https://127.0.0.1:"), told)
	require.FileExists(t, told["token in"])
	at := []string{"-with", "drivers.medina.api=" + url, "-with", "drivers.medina.ca=" + told["certificate"]}
	let := append(at, "-with", "drivers.medina.token={file = \""+told["token in"]+"\"}")
	stranger, code := p.run(append([]string{"enact", "-yes"}, at...)...)
	require.Equal(t, 1, code)
	require.Contains(t, stranger, "Medina asks for a token")
	unknown, code := p.run("enact", "-yes", "-with", "drivers.medina.api="+url)
	require.Equal(t, 1, code)
	require.Contains(t, unknown, "ca names the file")
	p.must(append([]string{"enact", "-yes"}, let...)...)
	require.NoFileExists(t, filepath.Join(p.dir, ".kasbah", "medina.db"), "nothing is embedded")
	tokens := func(args ...string) (string, int) {
		return p.run(append([]string{"medina", "tokens", "-api", url, "-token", told["token in"], "-ca",
			told["certificate"]}, args...)...)
	}
	made, code := tokens("-new", "gauger", "-rights", "read", "-json")
	require.Zero(t, code, made)
	require.NoError(t, validate([]byte(made)))
	var doc struct{ Items []medina.Token }
	require.NoError(t, json.Unmarshal([]byte(made), &doc))
	p.file("gauger.token", doc.Items[0].Token)
	gauger := append(at, "-with", `drivers.medina.token={file = "gauger.token"}`)
	require.Contains(t, p.must(append([]string{"propose"}, gauger...)...), "Nothing to do")
	readOnly, code := p.run(append([]string{"enact", "-yes", "-input", "n=3"}, gauger...)...)
	require.Equal(t, 1, code)
	require.Contains(t, strings.Join(strings.Fields(readOnly), " "),
		"token gauger may read, and this needs the right to write")
	list, _ := tokens()
	require.Contains(t, list, "gauger  read")
	require.NotContains(t, list, doc.Items[0].Token)
	list, code = tokens("-revoke", "gauger", "-json", "-quiet")
	require.Zero(t, code)
	require.NoError(t, validate([]byte(list)))
	_, code = tokens("-revoke", "gauger", "-new", "a")
	require.Equal(t, 2, code)
	revoked, code := p.run(append([]string{"propose"}, gauger...)...)
	require.Equal(t, 1, code)
	require.Contains(t, revoked, "Medina knows no such token")
	hand := []string{"-api", url, "-token", told["token in"], "-ca", told["certificate"]}
	require.Contains(t, p.must(append([]string{"medina", "list"}, hand...)...), "trial-shore-gauge-1")
	p.must(append([]string{"medina", "edit", "disk", "tape-1", "gigabytes=99", "-as", "keeper-9"}, hand...)...)
	survey, code := p.run(append([]string{"survey", "-exit-code"}, let...)...)
	require.Equal(t, 3, code)
	require.Contains(t, survey, "gigabytes expected 10, found 99, by keeper-9")
	// the cloud refuses to shrink it: its words stand at the declaration
	enact, code := p.run(append([]string{"enact", "-yes", "-rehearse", "never"}, let...)...)
	require.Equal(t, 1, code)
	require.Contains(t, enact, "a disk cannot shrink, and this one has 99")
	require.Contains(t, enact, "shore/shore.star:8:")
	require.NoError(t, serve.Process.Signal(os.Interrupt))
	require.NoError(t, serve.Wait())
	gone, code := p.run(append([]string{"propose"}, let...)...)
	require.Equal(t, 1, code, gone)
	require.Contains(t, gone, "the cloud cannot be reached")
}

// TestAfterAKill: what a person sees and can do when a program was killed.
func TestAfterAKill(t *testing.T) {
	t.Parallel()
	p := newProgram(t, "0.3", 3) // a machine takes seconds, so that the kill meets its call
	cmd := p.command("enact", "-yes")
	require.NoError(t, cmd.Start())
	p.untilLocked()
	require.Eventually(t, func() bool {
		out, _ := p.run("medina", "list", "machine")
		return strings.Contains(out, "mac-")
	}, time.Minute, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	require.Error(t, cmd.Wait())

	out, code := p.run("enact", "-yes")
	require.Equal(t, 4, code, out)
	require.Contains(t, out, "but     its process no longer runs")
	require.Contains(t, out, "go on   kasbah enact -yes -break-stale")
	require.Contains(t, p.must("propose"), "Warning: a part of shore is locked by keeper-1")
	require.Contains(t, p.must("survey"), "unchecked  shore:medina.machine/gauge-")
	lock := strings.Fields(strings.Split(p.must("lock"), "\n")[1])
	run := lock[1]
	out, code = p.run("lock", "break", run)
	require.Equal(t, 2, code, out)
	require.Contains(t, p.must("lock", "break", run, "-why", "it was killed"), "is broken")
	lock2 := p.must("lock")
	require.Contains(t, lock2, "No run holds a lock")
	require.Contains(t, lock2, "has no result; the next enact finds out")
	require.Contains(t, p.must("propose"), "taken as done; the next run finds out first")
	out = p.must("lock", "recover", run)
	require.Regexp(t, `[1-9] calls? settled`, out)
	require.NotContains(t, p.must("lock"), "has no result")
	require.Contains(t, p.must("ledger", "log"), "broken")
	p.must("enact", "-yes", "-quiet")
	require.Contains(t, p.must("propose", "-exit-code"), "all 11 resources are as declared")
	require.Contains(t, p.must("ledger", "verify"), "whole")
	out, code = p.run("lock", "recover", run)
	require.Equal(t, 2, code, out)
}

// TestInterrupt: an interrupt lets what is running finish and starts nothing
// more; the next enact goes on.
func TestInterrupt(t *testing.T) {
	p := newProgram(t, "0.05", 24)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := p.command("enact", "-yes", "-parallel", "3")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	p.untilLocked()
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case err := <-done:
		var exit *exec.ExitError
		require.True(t, asExit(err, &exit), out.String())
		require.Equal(t, 130, exit.ExitCode(), out.String())
	case <-ctx.Done():
		t.Fatal("the interrupt is not heeded")
	}
	require.Contains(t, out.String(), "not begun")
	require.Contains(t, out.String(), "Go on with: kasbah enact -yes -parallel 3")
	require.Contains(t, p.must("lock"), "No run holds a lock")
	p.must("enact", "-yes")
	require.Contains(t, p.must("propose", "-exit-code"), "all 53 resources are as declared")
}

func (p *program) read(name string) string {
	body, err := os.ReadFile(filepath.Join(p.dir, name))
	require.NoError(p.t, err)
	return string(body)
}
