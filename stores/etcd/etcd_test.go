package etcd_test

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/store"
	"kasbah/stores/etcd"
	"kasbah/stores/servertest"
	"kasbah/stores/storetest"
)

// under is a store whose keys all stand below one, so that tests can share a
// server.
func open(t *testing.T, s etcd.Settings) store.Store {
	out, err := etcd.Open(s)
	require.NoError(t, err)
	t.Cleanup(func() { out.Close() })
	return out
}

func TestConformance(t *testing.T) {
	server := servertest.Etcd(t)
	clear := func(t *testing.T) {
		out, err := exec.Command("etcdctl", "--endpoints", server.URL(), "del", "", "--prefix").CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	if _, err := exec.LookPath("etcdctl"); err != nil {
		t.Skip("etcdctl is not installed here; scripts/test installs it")
	}
	storetest.Run(t, func(t *testing.T) func() store.Store {
		clear(t)
		return func() store.Store { return open(t, etcd.Settings{Endpoints: []string{server.URL()}}) }
	})
	clear(t)
	storetest.Faults(t, server, func(t *testing.T, address string) store.Store {
		return open(t, etcd.Settings{Endpoints: []string{"http://" + address}})
	})
}

// The parts of what never came to its end are swept, those of others are not;
// blanked and deleted objects leave none.
func TestParts(t *testing.T) {
	ctx := context.Background()
	server := servertest.Etcd(t)
	s := open(t, etcd.Settings{Endpoints: []string{server.URL()}}).(*etcd.Store)
	large := bytes.Repeat([]byte("light"), 600_000) // three parts
	for _, key := range []string{"e/live/shore/checkpoint/0000000001", "e/live/shore/checkpoint/0000000002",
		"e/live/shore/log/0000000001", "e/live/signal/log/0000000001"} {
		require.NoError(t, s.PutIfAbsent(ctx, key, large))
	}
	require.ErrorIs(t, s.PutIfAbsent(ctx, "e/live/shore/log/0000000001", large[1:]), store.ErrExists)
	require.Equal(t, 12, count(t, server))
	require.NoError(t, s.Delete(ctx, "e/live/shore/checkpoint/0000000001"))
	require.NoError(t, s.Blank(ctx, "e/live/shore/log/0000000001"))
	require.Equal(t, 6, count(t, server))
	for i := range 3 {
		etcdctl(t, server, "put", fmt.Sprintf("kasbah.part/e/live/shore/log/LOST/%06d", i), "x")
	}
	etcdctl(t, server, "put", "kasbah.part/e/live/signal/log/COMING/000000", "x")
	require.NoError(t, s.Sweep(ctx, "e/live/shore/"))
	require.Equal(t, 7, count(t, server), "those of another ward may be on their way")
	for _, key := range []string{"e/live/shore/checkpoint/0000000002", "e/live/signal/log/0000000001"} {
		got, err := s.Get(ctx, key)
		require.NoError(t, err)
		require.True(t, bytes.Equal(large, got))
	}
	etcdctl(t, server, "del", "kasbah.part/e/live/signal/", "--prefix")
	_, err := s.Get(ctx, "e/live/signal/log/0000000001")
	require.ErrorContains(t, err, "a part of e/live/signal/log/0000000001 is missing")
}

func etcdctl(t *testing.T, server *servertest.Server, args ...string) string {
	out, err := exec.Command("etcdctl", append([]string{"--endpoints", server.URL()}, args...)...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

func count(t *testing.T, server *servertest.Server) int {
	return bytes.Count([]byte(etcdctl(t, server, "get", "kasbah.part/", "--prefix", "--keys-only")),
		[]byte("kasbah.part/"))
}

// With users, a token that the server has forgotten is fetched again; a wrong
// password is told without it.
func TestUsers(t *testing.T) {
	ctx := context.Background()
	server := servertest.Etcd(t)
	for _, args := range [][]string{{"user", "add", "root:tower"}, {"user", "grant-role", "root", "root"},
		{"auth", "enable"}} {
		if args[1] == "grant-role" {
			etcdctl(t, server, "role", "add", "root")
		}
		etcdctl(t, server, args...)
	}
	s := open(t, etcd.Settings{Endpoints: []string{server.URL()}, User: "root", Password: "tower"})
	require.NoError(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("x")))
	server.Stop()
	server.Start() // its simple tokens are gone
	got, err := s.Get(ctx, "a/log/0000000001")
	require.NoError(t, err)
	require.Equal(t, "x", string(got))
	wrong := open(t, etcd.Settings{Endpoints: []string{server.URL()}, User: "root", Password: "hidden"})
	_, err = wrong.Get(ctx, "a/log/0000000001")
	require.ErrorContains(t, err, "signing in as root: ")
	require.NotContains(t, err.Error(), "hidden")
	// one server of several is enough
	several := open(t, etcd.Settings{Endpoints: []string{"http://127.0.0.1:1", server.URL()}, User: "root",
		Password: "tower"})
	require.NoError(t, several.PutIfAbsent(ctx, "a/log/0000000002", []byte("y")))
}

// TestSettings: each setting that is wrong is named, with what is wrong about it, in time,
// and no password is shown.
func TestSettings(t *testing.T) {
	server := servertest.Etcd(t)
	secure := httptest.NewUnstartedServer(http.NotFoundHandler())
	secure.EnableHTTP2 = true
	secure.StartTLS()
	t.Cleanup(secure.Close)
	for _, c := range []struct {
		name string
		c    struct {
			is   etcd.Settings
			says string
		}
	}{
		{"nobody there", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{"http://127.0.0.1:1"}},
			"endpoints: etcd at http://127.0.0.1:1 cannot be reached"}},
		{"no such host", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{"http://etcd.lantern.invalid:2379"}},
			"endpoints: etcd at http://etcd.lantern.invalid:2379 cannot be reached"}},
		{"certificate", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{secure.URL}}, "ca: the certificate of " + secure.URL +
			" is not trusted"}},
		{"no TLS there", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{"https" + strings.TrimPrefix(server.URL(), "http")}},
			"no secure connection to https"}},
		{"no users", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{server.URL()}, User: "root", Password: "hidden"}, ""}},
		{"user alone", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{server.URL()}, User: "root"},
			"user and password go together"}},
		{"both", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{server.URL(), secure.URL}},
			"endpoints: all begin with https, or all with http"}},
		{"none", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{}, "it needs endpoints"}},
		{"no ca", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{secure.URL}, CA: "missing.pem"}, "its ca: open missing.pem"}},
		{"cert, no key", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{secure.URL}, Cert: "cert.pem"}, "cert and key go together"}},
		{"no URL", struct {
			is   etcd.Settings
			says string
		}{etcd.Settings{Endpoints: []string{"127.0.0.1:2379"}}, "each is a URL such as"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			began := time.Now()
			s, err := etcd.Open(c.c.is)
			if err == nil {
				t.Cleanup(func() { s.Close() })
				err = s.PutIfAbsent(context.Background(), "a/log/0000000001", []byte("x"))
				if err == nil || c.c.says != "" {
					_, read := s.Get(context.Background(), "a/log/0000000001")
					require.Equal(t, err == nil, read == nil, "%v", read)
				}
			}
			t.Log(err)
			require.Less(t, time.Since(began), 40*time.Second)
			if c.c.says == "" { // a server without users takes everybody
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.c.says)
			require.NotContains(t, err.Error(), "hidden")
		})
	}
}
