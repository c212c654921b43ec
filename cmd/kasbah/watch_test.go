//go:build unix

package main

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/emersion/go-smtp"

	"github.com/stretchr/testify/require"

	"kasbah/drivers/openapi/examples/harbour"
	"kasbah/stores/servertest"
)

// ledgerIn is what a program gets to keep its ledgers in a store of storeKinds.
func ledgerIn(settings map[string]string) (env []string) {
	for k, v := range settings {
		env = append(env, "KASBAH_WITH_LEDGER_"+k+"="+v)
	}
	return env
}

// TestWatchTakenOver: while a watcher surveys a ward, no other one does, also when it stands still. When it
// is killed the next one takes the ward over at once; nothing is missed. In every kind of store.
func TestWatchTakenOver(t *testing.T) {
	t.Parallel()
	for kind, settings := range storeKinds {
		t.Run(kind, func(t *testing.T) {
			p := newProgram(t, "0", 1)
			p.env = ledgerIn(settings(t))
			api, err := url.Parse(p.serveMedina())
			require.NoError(t, err)
			var held sync.Map // whether lists are held, by "" -> channel
			asked := make(chan struct{}, 100)
			through := httputil.NewSingleHostReverseProxy(api)
			through.ErrorHandler = func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) } // who asked is gone
			gate := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if open, hold := held.Load(""); hold && r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/networks") {
					asked <- struct{}{}
					select {
					case <-open.(chan struct{}):
					case <-r.Context().Done():
						return
					}
				}
				r.Host = api.Host
				through.ServeHTTP(w, r)
			}))
			t.Cleanup(gate.Close)
			p.file("kasbah.toml", fmt.Sprintf("estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\napi = %q\n"+
				"[env.trial.inputs]\nn = 1\n[watch]\nevery = \"500h\"\n", gate.URL))
			p.must("enact", "-yes", "-quiet")

			open := make(chan struct{})
			held.Store("", open)
			var said heard
			first := p.command("watch", "-once")
			first.Stdout, first.Stderr = &said, &said
			require.NoError(t, first.Start())
			t.Cleanup(func() { _ = first.Process.Kill() })
			select {
			case <-asked:
			case <-time.After(30 * time.Second):
				t.Fatal(said.String())
			}
			held.Delete("")
			require.Contains(t, p.must("watch", "-once"), "0 surveys made", "it is claimed")
			require.NoError(t, first.Process.Signal(syscall.SIGSTOP))
			require.Contains(t, p.must("watch", "-once"), "0 surveys made", "who stands still is not dead yet")
			require.NoError(t, first.Process.Kill())
			_ = first.Wait() // it was killed
			close(open)

			out := p.must("watch", "-once")
			require.Contains(t, out, "another watcher is dead")
			require.Contains(t, out, "1 survey made, 0 failed")
			require.Contains(t, p.must("watch", "-once"), "0 surveys made")
			require.Contains(t, p.must("alerts", "-exit-code"), "0 open")
		})
	}
}

// TestWatchTells: a webhook, a mailbox and a program hear what happens to an alert, each once and in
// its order: found, acknowledged, changed, and found no more.
func TestWatchTells(t *testing.T) {
	var mu sync.Mutex
	var posted []string
	hook := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var e struct{ Type, Subject string }
		mu.Lock()
		defer mu.Unlock()
		if json.NewDecoder(r.Body).Decode(&e) == nil && r.Header.Get("webhook-signature") != "" {
			posted = append(posted, e.Type+" "+e.Subject)
		}
	}))
	t.Cleanup(hook.Close)
	mails := &mailbox{got: make(chan string, 20)}
	server := smtp.NewServer(mails)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(listener) }() // it ends when it is closed
	t.Cleanup(func() { _ = server.Close() })

	p := newProgram(t, "0", 1)
	p.env = []string{"KASBAH_ENV=trial", "ROOM_SIGN=whsec_bGFudGVybi1jb2FzdC1rZXktMTIzNA==", "ROOM_URL=" + hook.URL + "/secret-room"}
	p.file("kasbah.toml", p.read("kasbah.toml")+fmt.Sprintf(`
[watch]
every = "500h"
[[notify]]
name = "keepers' room"
url  = { env = "ROOM_URL" }
sign = { env = "ROOM_SIGN" }
[[notify]]
mail   = "keepers@lantern.example"
server = "smtp://%s"
events = ["drift.opened"]
[[notify]]
run    = ["sh", "-c", "cat >> told"]
events = ["drift.*"]
`, listener.Addr()))
	p.must("enact", "-yes", "-quiet")
	require.NotContains(t, p.must("watch", "-once"), "told")
	p.must("medina", "edit", "machine", "mac-0001", "size=large", "-as", "keeper-2")
	out := p.must("watch", "shore", "-now")
	require.Equal(t, 3, strings.Count(out, "msg=told "), out)
	var list struct{ Alerts []struct{ ID string } }
	require.NoError(t, json.Unmarshal([]byte(p.must("alerts", "-json")), &list))
	require.Len(t, list.Alerts, 1)
	p.must("alerts", "acknowledge", list.Alerts[0].ID, "-why", "storm damage")
	p.must("medina", "edit", "machine", "mac-0001", "size=tiny", "-as", "keeper-3")
	p.must("watch", "shore", "-now")
	p.must("settle", "medina.machine/*", "-put-back", "-yes")
	out = p.must("watch", "shore", "-now")
	require.NotContains(t, out, "secret-room")
	subject := " shore:medina.machine/gauge-0 size"
	mu.Lock()
	defer mu.Unlock()
	want := []string{"drift.opened" + subject, "drift.acknowledged" + subject, "drift.changed" + subject, "drift.resolved" + subject, "run.ended shore"}
	require.Equal(t, want, posted)
	require.Contains(t, <-mails.got, "Subject: [coast trial] drift.opened: shore:medina.machine/gauge-0 size")
	require.Empty(t, mails.got, "the mailbox wants what was opened only")
	require.Equal(t, 4, strings.Count(p.read("told"), `"specversion":"1.0"`))
	dec := json.NewDecoder(strings.NewReader(p.read("told")))
	for dec.More() {
		var whole struct{ Data json.RawMessage }
		require.NoError(t, dec.Decode(&whole))
		require.NoError(t, validate(whole.Data))
	}
	require.Contains(t, p.must("ledger", "verify"), "~watch, trial: whole")

	// a wrong receiver is an error at its line, before anything is surveyed
	p.file("kasbah.toml", p.read("kasbah.toml")+"[[notify]]\nmail = \"keepers@lantern.example\"\nserver = \"mail\"\nname = \"second\"\n")
	out, code := p.run("watch", "-once")
	require.Equal(t, 1, code, out)
	require.Contains(t, out, `"mail" must be the address of a mail server`)
}

// mailbox is a mail server that keeps what it gets.
type mailbox struct{ got chan string }

// NewSession takes whoever comes.
func (m *mailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return m, nil }

// Reset, Logout, Mail and Rcpt take everything.
func (m *mailbox) Reset()                               {}
func (m *mailbox) Logout() error                        { return nil }
func (m *mailbox) Mail(string, *smtp.MailOptions) error { return nil }
func (m *mailbox) Rcpt(string, *smtp.RcptOptions) error { return nil }

// Data keeps a mail.
func (m *mailbox) Data(r io.Reader) error {
	body, err := io.ReadAll(r)
	m.got <- string(body)
	return err
}

// TestWatchTellsOfRuns: a receiver hears of each run over a watched ward once, also of one that ended while no
// watcher ran; a failed run and the lock of a killed one are alerts until a later run puts them right.
func TestWatchTellsOfRuns(t *testing.T) {
	t.Parallel()
	p := newProgram(t, "0", 2)
	p.file("kasbah.toml", p.read("kasbah.toml")+"\n[watch]\nevery = \"500h\"\n[[notify]]\nrun = [\"sh\", \"-c\", \"cat >> told\"]\n")
	told := func() (out []string) {
		for _, line := range strings.Split(strings.TrimSpace(p.read("told")), "\n") {
			var e struct {
				Type, Subject, ID string
				Data              struct{ Run struct{ Outcome, Who string } }
			}
			require.NoError(t, json.Unmarshal([]byte(line), &e), line)
			var whole struct{ Data json.RawMessage }
			require.NoError(t, json.Unmarshal([]byte(line), &whole), line)
			require.NoError(t, validate(whole.Data), line)
			out = append(out, e.Type+" "+e.Subject+" "+e.Data.Run.Outcome)
		}
		return out
	}
	p.must("watch", "-once")
	p.must("enact", "-yes", "-quiet")
	p.must("watch", "-once")
	p.must("watch", "-once")
	want := []string{"run.ended shore done"}
	require.Equal(t, want, told())

	p.must("medina", "faults", "refuse", "-on", "create", "-type", "machine", "-times", "20")
	p.file("kasbah.toml", strings.Replace(p.read("kasbah.toml"), "n = 2", "n = 3", 1))
	_, code := p.run("enact", "-yes", "-quiet")
	require.Equal(t, 1, code)
	p.must("watch", "-once")
	want = append(want, "run.failed shore failed")
	require.Equal(t, want, told())
	require.Regexp(t, `(?s)open +\S+ +shore\n +the run \S+ failed: medina.machine/gauge-2: .*by keeper-1`, p.must("alerts"))
	p.must("medina", "faults", "-clear")
	p.must("enact", "-yes", "-quiet")
	p.must("watch", "-once")
	want = append(want, "run.resolved shore done", "run.ended shore done")
	require.Equal(t, want, told())
	require.Contains(t, p.must("alerts", "-exit-code"), "0 open")

	p.file("kasbah.toml", strings.Replace(strings.Replace(p.read("kasbah.toml"), "n = 3", "n = 6", 1), "pace = 0", "pace = 0.2", 1))
	var said heard
	first := p.command("enact", "-yes", "-parallel", "1")
	first.Stdout, first.Stderr = &said, &said
	require.NoError(t, first.Start())
	require.Eventually(t, func() bool { return strings.Contains(said.String(), "1 of ") }, time.Minute, 5*time.Millisecond, said.String())
	require.NotContains(t, p.must("watch", "-once"), "dead")
	require.NoError(t, first.Process.Kill())
	_ = first.Wait() // it was killed
	require.Contains(t, p.must("watch", "-once"), "a dead program holds a lock")
	want = append(want, "lock.stale shore open")
	require.Equal(t, want, told())
	require.Contains(t, p.must("alerts"), "holds a lock, and its program is dead")
	p.must("watch", "-once")
	p.file("kasbah.toml", strings.Replace(p.read("kasbah.toml"), "pace = 0.2", "pace = 0", 1))
	p.must("enact", "-yes", "-quiet", "-break-stale") // a run that recovers, and one that goes on
	p.must("watch", "-once")
	want = append(want, "lock.resolved shore broken", "run.ended shore broken", "run.ended shore done", "run.ended shore done")
	require.Equal(t, want, told())
	require.Contains(t, p.must("alerts", "-exit-code"), "0 open")
	require.Contains(t, p.must("ledger", "verify"), "~watch, trial: whole")
}

// TestWatchersShare: three watchers begin at once, and one of them is killed while it works; each ward that is due is
// surveyed once. In every kind of store.
func TestWatchersShare(t *testing.T) {
	for kind, settings := range storeKinds {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			p := newProgram(t, "0", 1)
			p.env = ledgerIn(settings(t))
			api, err := url.Parse(p.serveMedina())
			require.NoError(t, err)
			through := httputil.NewSingleHostReverseProxy(api)
			through.ErrorHandler = func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) } // who asked is gone
			slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Method == http.MethodGet && strings.HasPrefix(r.URL.Path, "/buckets") {
					time.Sleep(500 * time.Millisecond)
				}
				r.Host = api.Host
				through.ServeHTTP(w, r)
			}))
			t.Cleanup(slow.Close)
			var wards []string
			for n := range 12 {
				wards = append(wards, fmt.Sprintf("%q", fmt.Sprint("ward-", n)))
				p.file(fmt.Sprintf("ward-%d/coast.star", n), "medina.bucket(\"log\")\n")
			}
			p.file("kasbah.toml", fmt.Sprintf("estate = \"coast\"\nwards = [%s]\n[drivers.medina]\nkind = \"medina\"\napi = %q\n[env.trial]\n[watch]\nevery = \"500h\"\n",
				strings.Join(wards, ", "), slow.URL))
			p.must("enact", "-yes", "-quiet")
			var all []*exec.Cmd
			var said [3]heard
			for n := range said {
				cmd := p.command("watch", "-at-once", "1")
				cmd.Stdout, cmd.Stderr = &said[n], &said[n]
				require.NoError(t, cmd.Start())
				all = append(all, cmd)
				t.Cleanup(func() { _ = cmd.Process.Kill() }) // it may have ended
			}
			count := func(words string) (total int) {
				for n := range said {
					total += strings.Count(said[n].String(), words)
				}
				return total
			}
			var list struct {
				Wards map[string]struct{ Counts map[string]int }
			}
			killed := -1
			require.Eventually(t, func() bool {
				for n := range said {
					if killed < 0 && strings.Contains(said[n].String(), "msg=surveyed") {
						killed = n
						require.NoError(t, all[n].Process.Kill())
						_ = all[n].Wait() // it was killed
					}
				}
				require.NoError(t, json.Unmarshal([]byte(p.must("alerts", "-json")), &list))
				return len(list.Wards) == 12
			}, time.Minute, 10*time.Millisecond, "%s\n%s\n%s", &said[0], &said[1], &said[2])
			for n, cmd := range all {
				if n != killed {
					require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
					require.NoError(t, cmd.Wait(), &said[n])
				}
			}
			n := count("msg=surveyed")
			require.True(t, n == 12 || n == 11, "%d surveys; of one that was written down the killed watcher may not have told", n)
			require.Contains(t, p.must("watch", "-once"), "0 surveys made")
			require.Contains(t, p.must("ledger", "verify", "~watch"), "whole")
		})
	}
}

// TestWatchRate: surveys that go on at once keep together to the rate of a described API.
func TestWatchRate(t *testing.T) {
	var mu sync.Mutex
	var asked []time.Time
	office := (&harbour.API{Building: 5 * time.Millisecond}).Handler()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		asked = append(asked, time.Now())
		mu.Unlock()
		office.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	p := newProgram(t, "0", 1)
	p.env = []string{"HARBOUR_KEY=lantern"}
	p.file("harbour.openapi.yaml", string(harbour.Document))
	p.file("harbour.overlay.yaml", string(harbour.Overlay))
	var wards []string
	for n := range 10 {
		wards = append(wards, fmt.Sprintf("%q", fmt.Sprint("ward-", n)))
		p.file(fmt.Sprintf("ward-%d/coast.star", n), fmt.Sprintf("harbour.port(\"isle\", code = \"isle%c\", depth = 9)\n", 'a'+n))
	}
	toml := func(rate int) {
		p.file("kasbah.toml", fmt.Sprintf("estate = \"coast\"\nwards = [%s]\n[drivers.harbour]\nkind = \"openapi\"\nspec = \"harbour.openapi.yaml\"\n"+
			"overlay = \"harbour.overlay.yaml\"\napi = %q\nrate = %d\nheaders = { X-Harbour-Key = { env = \"HARBOUR_KEY\" } }\n[env.trial]\n[watch]\nevery = \"500h\"\n",
			strings.Join(wards, ", "), server.URL+"/api/v2", rate))
	}
	toml(500)
	p.must("enact", "-yes", "-quiet")
	toml(20)
	asked = nil
	require.Contains(t, p.must("watch", "-once", "-at-once", "10"), "10 surveys made, 0 failed")
	require.GreaterOrEqual(t, len(asked), 10)
	took := asked[len(asked)-1].Sub(asked[0])
	// twenty at once, and twenty a second; the first may come late, and each survey for itself would take no time
	require.Greater(t, took, time.Duration(len(asked)-21)*time.Second/20/2, "%d requests", len(asked))
}

// TestWatchStoreAway: while the store is away the page says so and shows what was known; when it is back, the watcher
// goes on by itself.
func TestWatchStoreAway(t *testing.T) {
	t.Parallel()
	p := newProgram(t, "0", 1)
	server := servertest.Etcd(t)
	p.env = ledgerIn(map[string]string{"STORE": "etcd", "ENDPOINTS": server.URL()})
	p.file("kasbah.toml", p.read("kasbah.toml")+"\n[watch]\nevery = \"* * * * *\"\n")
	p.must("enact", "-yes", "-quiet")
	url, said, _ := p.watching()
	get := func(path string) string {
		res, err := patient.Get(url + path)
		require.NoError(t, err)
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return string(body)
	}
	eventually := func(path, words string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(get(path), words) }, 100*time.Second, 100*time.Millisecond, "%s: %s\n%s", words, get(path), said)
	}
	eventually("/metrics", `kasbah_surveys_total{env="trial",result="done",ward="shore"} 1`)
	server.Stop()
	eventually("/metrics", `kasbah_journal_up{env="trial"} 0`)
	require.Contains(t, get("/"), "The journal cannot be read since")
	require.Contains(t, get("/wards/trial/shore"), "Surveyed")
	server.Start()
	eventually("/metrics", `kasbah_journal_up{env="trial"} 1`)
	eventually("/metrics", `kasbah_surveys_total{env="trial",result="done",ward="shore"} 2`)
	require.Contains(t, get("/healthz"), "healthy")
	require.NotContains(t, get("/"), "The journal cannot be read")
}
