//go:build linux

package main

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// spy makes folder.py look around where it is asked to make a file: the command lines of all
// processes, and what it was given in its environment. It fails, or dies, where it is told to.
const spy = `
class Spy(Folder):
    def create(self, p):
        with open(os.path.join(self.root, "../seen.txt"), "ab") as f:
            for pid in filter(str.isdigit, os.listdir("/proc")):
                try:
                    f.write(open("/proc/%s/cmdline" % pid, "rb").read() + b"\n")
                except OSError:
                    pass
            f.write(open("/proc/self/environ", "rb").read() + b"\n")
        if os.path.exists(os.path.join(self.root, "../fails")):
            print("it cannot write", p["inputs"]["text"], file=sys.stderr)
            raise refused("it cannot write " + p["inputs"]["text"], "text")
        if os.path.exists(os.path.join(self.root, "../dies")):
            print("Traceback: text =", p["inputs"]["text"], file=sys.stderr)
            sys.stderr.flush()
            os._exit(1)
        return super().create(p)


folder = Spy()
`

// TestSecretsAreNotSeen: whoever looks at processes, temporary files, caches, records, kept
// proposals and everything that is said finds no secret, in none of its usual forms, also
// where a driver fails with it on its lips or dies.
func TestSecretsAreNotSeen(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("python3"); err != nil {
		t.Skip("python3 is not installed")
	}
	secrets := []string{"the-first-hidden-word", "the-second/hidden=word"}
	p := fort(t)
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".kasbah")))
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "home", "kasbah", "seen")))
	body, err := os.ReadFile("../../drivers/process/examples/python/folder.py")
	require.NoError(t, err)
	require.Contains(t, string(body), "\nfolder = Folder()\n")
	p.file("folder.py", strings.Replace(string(body), "\nfolder = Folder()\n", spy, 1))
	temp := filepath.Join(p.dir, "temp")
	require.NoError(t, os.MkdirAll(temp, 0o700))
	p.env = append(p.env, "TMPDIR="+temp, "XDG_CACHE_HOME="+filepath.Join(p.dir, "cache"),
		"KASBAH_SECRET_WORD="+secrets[0])
	p.file("kasbah.toml", strings.Replace(p.read("kasbah.toml"), "[env.trial]\n",
		"[drivers.local]\nkind = \"process\"\nrun = [\"python3\", \"folder.py\"]\nfolder = \"out\"\n[env.trial]\n", 1))
	notice := "word = input(\"word\", kind.text, secret = True)\nlocal.file(\"notice\", path = \"notice.txt\", text " +
		"= \"open: \" + word)\n"
	p.file("shore/shore.star", notice)
	p.env = append(p.env, "KASBAH_ENV=trial")

	reader := &program{t: t, dir: p.dir, env: []string{"XDG_CONFIG_HOME=" + filepath.Join(p.dir, "second"),
		"HOME=" + filepath.Join(p.dir, "second")}}
	require.NoError(t, os.MkdirAll(filepath.Join(p.dir, "second"), 0o700))
	other := strings.TrimSpace(reader.must("key", "new", "-quiet"))

	var said strings.Builder
	say := func(code int, args ...string) {
		t.Helper()
		out, is := p.run(args...)
		require.Equal(t, code, is, "%v\n%s", args, out)
		said.WriteString(out)
	}
	p.file("fails", "")
	say(1, "enact", "-yes", "-verbose", "-timeout", "2s")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "fails")))
	p.file("dies", "")
	out, code := p.run("enact", "-yes", "-verbose", "-timeout", "2s")
	require.NotZero(t, code, out)
	said.WriteString(out)
	require.NoError(t, os.Remove(filepath.Join(p.dir, "dies")))
	say(0, "propose", "-o", "change.age", "-reader", other)
	out, code = reader.run("review", "change.age")
	require.Zero(t, code, out)
	require.Contains(t, out, "local.file/notice")
	said.WriteString(out)
	say(0, "enact", "change.age", "-yes", "-verbose", "-why", "a test")
	require.Equal(t, "open: "+secrets[0], p.read("out/notice.txt"))

	// another one, so that there is a history
	p.env = append(p.env, "KASBAH_SECRET_WORD="+secrets[1])
	p.file("shore/shore.star", notice+"local.file(\"second\", path = \"second.txt\", text = word)\n")
	say(0, "enact", "-yes", "-verbose")
	require.Equal(t, secrets[1], p.read("out/second.txt"))
	for _, args := range []string{
		"why local.file/notice", "why local.file/notice.text", "why local.file/notice.text -json", "ledger show -json",
		"ledger show local.file/notice", "ledger log -full", "ledger log -json",
		"ledger export", "propose -json", "propose -full", "propose -form html", "propose -form markdown", "survey",
		"map", "published", "ledger verify",
	} {
		say(0, strings.Fields(args)...)
	}

	everything := said.String() + p.read("seen.txt")
	require.Contains(t, p.read("seen.txt"), "folder.py", "the spy has looked")
	require.NoError(t, filepath.WalkDir(p.dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() && path == filepath.Join(p.dir, "out") { // the cloud has it
			return filepath.SkipDir
		}
		if d.Type().IsRegular() {
			everything += p.read(strings.TrimPrefix(path, p.dir+"/"))
		}
		return nil
	}))
	for _, s := range secrets {
		for _, form := range []string{s, url.QueryEscape(s), url.PathEscape(s),
			strings.Trim(string(must(json.Marshal(s))), `"`), hex.EncodeToString([]byte(s)),
			base64.RawStdEncoding.EncodeToString([]byte(s))[:20]} {
			if at := strings.Index(everything, form); at >= 0 {
				t.Errorf("%q is seen: %q", form, everything[max(0, at-300):min(len(everything), at+100)])
			}
		}
	}
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

// TestProgramsGetLittle: git, and a program that gives a secret, get nothing of what Kasbah
// was given: no identity, no secret, no setting.
func TestProgramsGetLittle(t *testing.T) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("git is not installed")
	}
	p := fort(t)
	identity := must(os.ReadFile(must(filepath.Glob(filepath.Join(p.dir, "home", "kasbah", "identit*")))[0]))
	bin := filepath.Join(p.dir, "bin")
	require.NoError(t, os.MkdirAll(bin, 0o755))
	whole := must(exec.LookPath("git"))
	for name, does := range map[string]string{"git": "exec " + whole + ` "$@"`, "word": "echo a-long-word"} {
		p.file("bin/"+name, "#!/bin/sh\n{ echo \"-- $0 $*\"; env; } >> "+filepath.Join(p.dir,
			"given.txt")+"\n"+does+"\n")
		require.NoError(t, os.Chmod(filepath.Join(bin, name), 0o755))
	}
	repository := filepath.Join(p.dir, "quays")
	p.file("quays/kit.toml", "name = \"quays\"\nversion = \"1.0.0\"\ndrivers = [\"medina\"]\n")
	p.file("quays/kit.star", "def _quay():\n    medina.bucket(\"log\")\n\nquay = kit(_quay)\n")
	for _, args := range [][]string{{"init", "-q"}, {"add", "."}, {"-c", "user.name=keeper-1", "-c",
		"user.email=keeper-1@lantern.example", "commit", "-qm", "first"}, {"tag", "v1.0.0"}} {
		cmd := exec.Command(whole, args...)
		cmd.Dir = repository
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	p.file("kasbah.toml",
		p.read("kasbah.toml")+"[kits]\nquays = { git = \"file://"+repository+"\", tag = \"v1.0.0\" "+
			"}\n[env.trial.secrets]\nword = { run = [\"word\"], env = [\"WORD_FROM\"] }\n")
	p.file("shore/shore.star", "load(\"kit:quays\", \"quay\")\nword = input(\"word\", kind.text, secret = "+
		"True)\nquay(\"west\")\nmedina.machine(\"m\", subnet = medina.subnet(\"q\", network = "+
		"medina.network(\"coast\", range = \"10.1.0.0/16\"), range = \"10.1.0.0/24\"), size = \"tiny\", image = "+
		"\"s\", notes = word)\n")
	p.env = append(p.env, "PATH="+bin+":"+os.Getenv("PATH"), "KASBAH_ENV=trial", "KASBAH_IDENTITY="+string(identity),
		"KASBAH_SECRET_OTHER=another-hidden-word", "LANTERN_TOKEN=token-of-the-coast", "WORD_FROM=the-quay")
	p.must("kit", "update", "-yes", "quays")
	out := p.must("enact", "-yes", "-allow", "data")
	for _, variable := range []string{"KASBAH_IDENTITY", "KASBAH_WRITER"} {
		wrong := &program{t: t, dir: p.dir, env: append(slices.Clone(p.env),
			variable+"="+strings.Replace(string(identity), "AGE-SECRET-KEY-1", "age-secret-key-2", 1))}
		said, code := wrong.run("enact", "-yes", "-swap", "medina.machine/m")
		require.NotZero(t, code, said)
		require.Contains(t, said, variable)
		out += said
	}
	require.NotRegexp(t, "(?i)AGE-SECRET-KEY", out)
	given := p.read("given.txt")
	require.Contains(t, given, " clone --quiet")
	require.Contains(t, given, "/bin/word ")
	require.Contains(t, given, "WORD_FROM=the-quay")
	require.Equal(t, strings.Count(given, "/bin/word "), strings.Count(given, "WORD_FROM"),
		"the program alone for which it is named")
	for _, no := range []string{"KASBAH_", "AGE-SECRET-KEY", "another-hidden-word", "token-of-the-coast"} {
		require.NotContains(t, given, no)
	}
}

// TestInterruptEndsRepeats: an API that is always too busy is asked again and again, with the
// lock held; one interrupt ends that, and the lock is given back.
func TestInterruptEndsRepeats(t *testing.T) {
	b := newBeacons(t)
	var asked atomic.Int32
	b.habit = func(w http.ResponseWriter, r *http.Request, _ map[string]any) bool {
		if r.Method != http.MethodPost {
			return false
		}
		asked.Add(1)
		w.Header().Set("Retry-After", "1")
		w.WriteHeader(http.StatusTooManyRequests)
		return true
	}
	p := b.estate(t, beaconDocument("", ""))
	p.file("beacon/beacon.star", "beacon.lamp(\"west\", label = \"west\")\n")
	cmd := p.command("enact", "-yes", "-env", "trial")
	var out heard
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill() })
	require.Eventually(t, func() bool { return asked.Load() >= 2 }, time.Minute, 10*time.Millisecond, "it repeats")
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("the interrupt is not heeded: " + out.String())
	}
	require.Equal(t, 130, cmd.ProcessState.ExitCode(), out.String())
	require.Contains(t, p.must("lock", "-env", "trial"), "No run holds a lock")
	before := asked.Load()
	time.Sleep(100 * time.Millisecond)
	require.Equal(t, before, asked.Load())
	b.mu.Lock()
	b.habit = nil
	b.mu.Unlock()
	p.must("enact", "-yes", "-env", "trial")
	require.Len(t, b.things, 1)
}

// TestProxies: between us and an API there may be a proxy that wants a password, one that
// answers itself, and one that reads along. None is believed, none learns a token where the
// way is HTTPS, and nothing is recorded that is not so.
func TestProxies(t *testing.T) {
	const token = "token-of-the-coast"
	b := newBeacons(t)
	secure := httptest.NewTLSServer(b.Config.Handler)
	t.Cleanup(secure.Close)
	for _, c := range []struct {
		name string
		c    struct {
			api    string
			answer http.HandlerFunc
			says   string
		}
	}{
		{"asks for a password", struct {
			api    string
			answer http.HandlerFunc
			says   string
		}{"http://lamps.lantern.example", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			w.WriteHeader(http.StatusProxyAuthRequired)
			fmt.Fprint(w, "<html>who are you?</html>")
		}, "Proxy Authentication Required"}},
		{"answers itself", struct {
			api    string
			answer http.HandlerFunc
			says   string
		}{"http://lamps.lantern.example", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<html>Welcome to the harbour's network</html>")
		}, "with a page of HTML"}},
		{"reads along", struct {
			api    string
			answer http.HandlerFunc
			says   string
		}{"https://lamps.lantern.example", func(w http.ResponseWriter, r *http.Request) {
			if r.Method != http.MethodConnect {
				w.WriteHeader(http.StatusBadRequest)
				return
			}
			conn, _, err := w.(http.Hijacker).Hijack()
			if err != nil {
				return
			}
			fmt.Fprint(conn, "HTTP/1.1 200 OK\r\n\r\n")
			through(conn, secure.Listener.Addr().String()) // whose certificate is not trusted
		}, "certificate"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			b.mu.Lock()
			b.things, b.made = map[string]map[string]any{}, 0
			b.mu.Unlock()
			answer, heard := http.HandlerFunc(b.Config.Handler.ServeHTTP), &heard{}
			var mu sync.Mutex
			proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				fmt.Fprintln(heard, r.Method, r.URL, r.Header)
				mu.Lock()
				answer := answer
				mu.Unlock()
				answer(w, r)
			}))
			defer proxy.Close()
			p := b.estate(t, beaconDocument("", ""))
			p.file("kasbah.toml", strings.Replace(p.read("kasbah.toml"), fmt.Sprintf("api = %q\n", b.URL),
				fmt.Sprintf("api = %q\nbearer = { env = \"LANTERN_TOKEN\" }\n", c.c.api), 1))
			west := "beacon.lamp(\"west\", label = \"west\")\n"
			p.file("beacon/beacon.star", west)
			p.env = append(p.env, "LANTERN_TOKEN="+token, "HTTP_PROXY="+proxy.URL, "HTTPS_PROXY="+proxy.URL,
				"KASBAH_ENV=trial")
			tries := [][]string{{"enact", "-yes", "-timeout", "3s"}}
			if !strings.HasPrefix(c.c.api, "https") {
				p.must(tries[0]...) // one that passes things on is in nobody's way
				require.Contains(t, heard.String(), "POST http://lamps.lantern.example/lamps")
				p.file("beacon/beacon.star", west+"beacon.lamp(\"east\", label = \"east\")\n")
				tries = append(tries, []string{"propose"}, []string{"survey"})
			}
			before := len(b.things)
			mu.Lock()
			answer = c.c.answer
			mu.Unlock()
			for _, args := range tries {
				out, code := p.run(args...)
				t.Logf("%v: %d\n%s", args, code, out)
				// which says that it could not look
				require.Equal(t, args[0] == "survey", code == 0, "%v\n%s", args, out)
				require.Contains(t, strings.Join(strings.Fields(out), " "), c.c.says)
				require.NotContains(t, out, token)
				require.NotContains(t, out, "gone from the cloud")
				require.Len(t, b.things, before)
			}
			if before == 0 {
				require.Contains(t, heard.String(), "CONNECT")
				require.NotContains(t, heard.String(), token)
				return
			}
			mu.Lock()
			answer = b.Config.Handler.ServeHTTP
			mu.Unlock()
			p.must("enact", "-yes")
			require.Len(t, b.things, 2, "and afterwards it goes on")
		})
	}
}

// through joins a connection with an address until one of both ends.
func through(conn net.Conn, to string) {
	defer conn.Close()
	other, err := net.Dial("tcp", to)
	if err != nil {
		return
	}
	defer other.Close()
	go func() { _, _ = io.Copy(other, conn); _ = other.Close() }()
	_, _ = io.Copy(conn, other)
}
