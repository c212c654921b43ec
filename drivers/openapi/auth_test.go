package openapi_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/drivers/openapi"
)

// counting is a credential that gives another text each time it is fetched anew.
func counting(n *atomic.Int32) openapi.Credential {
	return func(_ context.Context, again bool) (string, error) {
		return fmt.Sprintf("word-%d", n.Add(1)), nil
	}
}

// TestAuth: each way of saying who asks reaches the API, is fetched once for as
// long as it is good, and anew when it is refused.
func TestAuth(t *testing.T) {
	ctx := context.Background()
	var fetched, asked, given atomic.Int32
	var wants func(r *http.Request) bool
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		if r.URL.Path == "/token" {
			id, secret, _ := r.BasicAuth()
			w.Header().Set("Content-Type", "application/json")
			if id != "keeper" || r.FormValue("grant_type") != "client_credentials" ||
				r.FormValue("scope") != "lamps towers" {
				w.WriteHeader(http.StatusForbidden)
				return
			}
			fmt.Fprintf(w, `{"access_token": "token-%d-%s", "token_type": "Bearer", "expires_in": 3600}`, given.Add(1),
				secret)
			return
		}
		if !wants(r) {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		fmt.Fprint(w, `{"serial": "l-1", "power": 12}`)
	}))
	defer api.Close()
	is := func(name, want string) func(*http.Request) bool {
		return func(r *http.Request) bool { return r.Header.Get(name) == want }
	}
	open := func(auth openapi.Auth) *openapi.Driver {
		fetched.Store(0)
		asked.Store(0)
		given.Store(0)
		d, err := openapi.New(openapi.Options{Document: []byte(lampDocument), Auth: auth,
			Base: func(context.Context) (string, error) { return api.URL, nil }})
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, d.Close()) })
		return d
	}
	for _, c := range []struct {
		name string
		c    struct {
			auth openapi.Auth
			want func(n int) func(*http.Request) bool
		}
	}{
		{"bearer", struct {
			auth openapi.Auth
			want func(n int) func(*http.Request) bool
		}{openapi.Auth{Bearer: counting(&fetched)}, func(n int) func(*http.Request) bool {
			return is("Authorization", fmt.Sprintf("Bearer word-%d", n))
		}}},
		{"basic", struct {
			auth openapi.Auth
			want func(n int) func(*http.Request) bool
		}{openapi.Auth{User: "keeper", Password: counting(&fetched)}, func(n int) func(*http.Request) bool {
			return func(r *http.Request) bool {
				user, word, ok := r.BasicAuth()
				return ok && user == "keeper" && word == fmt.Sprintf("word-%d", n)
			}
		}}},
		{"header", struct {
			auth openapi.Auth
			want func(n int) func(*http.Request) bool
		}{openapi.Auth{Headers: map[string]openapi.Credential{"X-Coast-Key": counting(&fetched)}},
			func(n int) func(*http.Request) bool {
				return is("X-Coast-Key", fmt.Sprintf("word-%d", n))
			}}},
		{"oauth", struct {
			auth openapi.Auth
			want func(n int) func(*http.Request) bool
		}{openapi.Auth{OAuth: &openapi.OAuth{URL: api.URL + "/token", Client: "keeper",
			Secret: counting(&fetched), Scopes: []string{"lamps", "towers"}}}, func(n int) func(*http.Request) bool {
			return is("Authorization", fmt.Sprintf("Bearer token-%d-word-%d", n, n))
		}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := open(c.c.auth)
			wants = c.c.want(1)
			for range 3 {
				_, err := d.Read(ctx, "lamp", "l-1")
				require.NoError(t, err)
			}
			require.EqualValues(t, 1, fetched.Load(), "as long as it is good it is kept")
			wants = c.c.want(2) // the first one has ended
			_, err := d.Read(ctx, "lamp", "l-1")
			require.NoError(t, err)
			require.EqualValues(t, 2, fetched.Load())
			wants = func(*http.Request) bool { return false }
			asked.Store(0)
			_, err = d.Read(ctx, "lamp", "l-1")
			var refused *driver.Error
			require.ErrorAs(t, err, &refused)
			require.False(t, refused.Passing)
			require.NotContains(t, err.Error(), "word-")
			require.LessOrEqual(t, asked.Load(), int32(3), "it is not tried on and on")
		})
	}
	d := open(openapi.Auth{OAuth: &openapi.OAuth{URL: api.URL + "/token", Client: "nobody",
		Secret: counting(&fetched)}})
	_, err := d.Read(ctx, "lamp", "l-1")
	require.ErrorContains(t, err, "gives no token: 403 Forbidden")
	require.NotContains(t, err.Error(), "word-")
	d = open(openapi.Auth{Bearer: func(context.Context, bool) (string, error) {
		return "", errors.New("the variable COAST_TOKEN is not set")
	}})
	_, err = d.Read(ctx, "lamp", "l-1")
	require.ErrorContains(t, err, "no credential for the cloud: the variable COAST_TOKEN is not set")
}

// TestAuthStaysAtHome: credentials go to the API alone, wherever that sends us.
func TestAuthStaysAtHome(t *testing.T) {
	heard := make(chan http.Header, 1)
	foreign := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		heard <- r.Header
		fmt.Fprint(w, `{"serial": "l-1", "power": 1}`)
	}))
	defer foreign.Close()
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Location", foreign.URL+"/operations/1")
		w.WriteHeader(http.StatusAccepted)
	}))
	defer api.Close()
	var fetched atomic.Int32
	open := func(hosts ...string) *openapi.Driver {
		d, err := openapi.New(openapi.Options{Document: []byte(lampDocument), Hosts: hosts,
			Auth: openapi.Auth{Bearer: counting(&fetched)}, Base: func(context.Context) (string,
				error) {
				return api.URL, nil
			}})
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, d.Close()) })
		return d
	}
	host := strings.TrimPrefix(foreign.URL, "http://")
	_, err := open().Create(context.Background(), "lamp", nil, "")
	require.ErrorContains(t, err, fmt.Sprintf("would leave the API for %s, which is not asked; hosts = [%q]", host,
		host))
	require.Equal(t, driver.Unknown, driver.OutcomeOf(err), "the create was accepted")
	require.Empty(t, heard, "nobody else was asked")
	_, err = open(host).Create(context.Background(), "lamp", nil, "")
	require.NoError(t, err)
	require.Empty(t, (<-heard).Get("Authorization"))
}

// TestNotBelieved: a refusal says which settings to look at, and never what they give.
func TestNotBelieved(t *testing.T) {
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer api.Close()
	word := func(context.Context, bool) (string, error) { return "hush-hush", nil }
	for _, c := range []struct {
		want string
		auth openapi.Auth
	}{
		{"Unauthorized (GET /v1/lamps/l-1 answers 401); the driver's settings give no credentials (bearer, headers, " +
			"oauth, user with password)", openapi.Auth{}},
		{"Unauthorized (GET /v1/lamps/l-1 answers 401); the driver's settings give no credentials (token)",
			openapi.Auth{Setting: "token"}},
		{"Unauthorized (GET /v1/lamps/l-1 answers 401); it was asked with token of the driver's settings",
			openapi.Auth{Bearer: word, Setting: "token"}},
		{"Unauthorized (GET /v1/lamps/l-1 answers 401); it was asked with bearer and headers.X-Coast of the driver's " +
			"settings", openapi.Auth{Bearer: word, Headers: map[string]openapi.Credential{"X-Coast": word}}},
	} {
		t.Run(c.want, func(t *testing.T) {
			d, err := openapi.New(openapi.Options{Document: []byte(lampDocument), Auth: c.auth,
				Base: func(context.Context) (string, error) { return api.URL, nil }})
			require.NoError(t, err)
			_, err = d.Read(context.Background(), "lamp", "l-1")
			require.EqualError(t, err, c.want)
			require.NoError(t, d.Close())
		})
	}
}

// TestLedAway: neither a redirect nor a link to the next page leads a read to another host.
func TestLedAway(t *testing.T) {
	foreign := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		t.Error("it was asked " + r.URL.Path)
	}))
	defer foreign.Close()
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/v1/lamps":
			w.Header().Set("Link", "<"+foreign.URL+`/v1/lamps?p=2>; rel="next"`)
			fmt.Fprint(w, `[{"serial": "l-1", "power": 1}]`)
		default:
			http.Redirect(w, r, foreign.URL+r.URL.Path, http.StatusFound)
		}
	}))
	defer api.Close()
	d, err := openapi.New(openapi.Options{Document: []byte(lampDocument), Base: func(context.Context) (string,
		error) {
		return api.URL, nil
	}})
	require.NoError(t, err)
	defer d.Close()
	_, err = d.Read(context.Background(), "lamp", "l-1")
	require.ErrorContains(t, err, "which is not followed")
	for _, e := range d.List(context.Background(), "lamp") {
		err = e
	}
	require.ErrorContains(t, err, "would leave the API for ")
}

// TestUnfit: a name that no header can carry is refused once, and not tried again.
func TestUnfit(t *testing.T) {
	d, err := openapi.New(openapi.Options{Document: []byte(lampDocument), From: "keeper\x07",
		Base: func(context.Context) (string, error) { return "http://127.0.0.1:1", nil }})
	require.NoError(t, err)
	defer d.Close()
	_, err = d.Create(context.Background(), "lamp", nil, "")
	require.ErrorContains(t, err, `the header "From" holds a character that no request can carry`)
	passing, _ := driver.IsPassing(err)
	require.False(t, passing)
	require.Equal(t, driver.NotDone, driver.OutcomeOf(err))
}
