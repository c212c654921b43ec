package main

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/stores/servertest"
)

// TestWatchTakenOver: while a watcher surveys a ward, no other one does, also when it stands still. When it
// is killed the next one takes the ward over at once; nothing is missed. On files, and on a
// PostgreSQL server.
func TestWatchTakenOver(t *testing.T) {
	for _, kind := range []string{"file", "postgres"} {
		t.Run(kind, func(t *testing.T) {
			p := newProgram(t, "0", 1)
			api, err := url.Parse(p.serveMedina())
			require.NoError(t, err)
			var held sync.Map // whether lists are held, by "" -> channel
			asked := make(chan struct{}, 100)
			through := httputil.NewSingleHostReverseProxy(api)
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
			ledger := "store = \"file\"\n"
			if kind == "postgres" {
				server := servertest.Postgres(t)
				ledger = fmt.Sprintf("store = \"postgres\"\ndsn = %q\n", server.DSN("postgres"))
			}
			p.file("kasbah.toml", fmt.Sprintf("estate = \"coast\"\nwards = [\"shore\"]\n[drivers.medina]\nkind = \"medina\"\napi = %q\n[ledger]\n%s"+
				"[env.trial.inputs]\nn = 1\n[watch]\nevery = \"500h\"\n", gate.URL, ledger))
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
