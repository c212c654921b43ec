package page_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/alert"
	"kasbah/core/schedule"
	"kasbah/core/value"
	"kasbah/page"
	"kasbah/transport"
)

// coast is a watcher's page over two environments, live and trial, with an alert in each.
type coast struct {
	t      *testing.T
	now    time.Time
	board  *page.Board
	states map[string]*alert.State
	tokens map[string]string // `ENV RIGHTS` -> token
	acks   []string
	at     *page.Server
}

func newCoast(t *testing.T, o page.Options) *coast {
	c := &coast{t: t, now: time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC), states: map[string]*alert.State{}, tokens: map[string]string{}}
	c.board = page.NewBoard("coast", func() time.Time { return c.now })
	hourly, err := schedule.Parse("1h", "")
	require.NoError(t, err)
	for _, env := range []string{"live", "trial"} {
		s := alert.NewState()
		for _, rights := range alert.Rights {
			token, err := alert.NewToken(env+"-"+rights, rights, "keeper-1")
			require.NoError(t, err)
			c.tokens[env+" "+rights] = token.Token
			s.Fold(c.now, "r", &alert.Line{Token: &token})
		}
		s.Fold(c.now, "r", &alert.Line{Event: &alert.Event{Kind: alert.WasOpened, ID: "k7d2m9q" + env[:1], Finding: &alert.Finding{
			Ward: "shore", Address: "medina.machine/</script><b>" + env, Verdict: alert.Differs, Path: "size", Found: &value.Any{V: "<i>large"}}}})
		c.states[env] = s
		c.board.Watch(page.Environment{Name: env, Wards: map[string]*schedule.Schedule{"shore": hourly},
			Acknowledge: func(_ context.Context, id string, ack alert.Ack) (*alert.State, error) {
				if ack.Why == "full disk" {
					return nil, errors.New("the disk is full")
				}
				c.acks = append(c.acks, fmt.Sprint(env, " ", id, " ", ack))
				s := c.states[env].Clone()
				s.Fold(c.now, "p", &alert.Line{Event: &alert.Event{Kind: alert.WasAcknowledged, ID: id, Ack: &ack}})
				c.states[env] = s
				return s, nil
			}})
		c.board.Seen(env, s, nil)
	}
	if o.Address == "" {
		o.Address = "127.0.0.1:0"
	}
	c.at, err = page.Listen(c.board, page.NewCounters(c.board), o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, c.at.Close()) })
	return c
}

// ask makes a request without following where it leads, and returns the status and the answer.
func (c *coast) ask(method, path string, change func(*http.Request), form ...string) (int, string) {
	c.t.Helper()
	body := url.Values{}
	for i := 0; i < len(form); i += 2 {
		body.Set(form[i], form[i+1])
	}
	r, err := http.NewRequest(method, c.at.URL+path, strings.NewReader(body.Encode()))
	require.NoError(c.t, err)
	if method == http.MethodPost {
		r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	if change != nil {
		change(r)
	}
	client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	res, err := client.Do(r)
	require.NoError(c.t, err)
	defer res.Body.Close()
	said, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	return res.StatusCode, res.Header.Get("Location") + string(said)
}

func with(token string) func(*http.Request) {
	return func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+token) }
}

// afar is a request that another server passes on, from another machine.
func afar(token string) func(*http.Request) {
	return func(r *http.Request) {
		r.Header.Set("X-Forwarded-For", "192.0.2.1")
		if token != "" {
			r.AddCookie(&http.Cookie{Name: "kasbah-watch", Value: token})
		}
	}
}

// TestWhoMay: on this machine everybody reads; from elsewhere a token reads its environment; only a token with
// the right acknowledges, and a page from elsewhere never does.
func TestWhoMay(t *testing.T) {
	c := newCoast(t, page.Options{})
	const alertPath = "/alerts/trial/k7d2m9qt"
	for _, x := range []struct {
		method, path string
		change       func(*http.Request)
		status       int
		says         string
	}{
		{"GET", "/", nil, 200, "medina.machine/&lt;/script&gt;&lt;b&gt;live"},
		{"GET", alertPath, nil, 200, "with a token that may acknowledge"},
		{"GET", "/alerts/trial/none", nil, 404, "No alert of trial has this id"},
		{"GET", "/alerts/shore/k7d2m9qt", nil, 404, "No environment"},
		{"GET", "/wards/trial/isle", nil, 404, "No ward"},
		{"GET", "/nowhere", nil, 404, "There is no such page"},
		{"GET", "/", afar(""), 303, "/enter"},
		{"GET", "/metrics", afar(""), 401, "Metrics need a token"},
		{"GET", "/healthz", afar(""), 200, "healthy"},
		{"HEAD", "/healthz", afar(""), 200, ""},
		{"GET", "/", afar(c.tokens["trial read"]), 200, "b&gt;trial"},
		{"GET", "/alerts/live/k7d2m9ql", afar(c.tokens["trial read"]), 404, "No environment"},
		{"GET", "/metrics", afar(c.tokens["trial read"]), 403, "every environment"},
		{"GET", "/metrics", nil, 200, `kasbah_alerts{env="live",state="open"} 1`},
		{"GET", "/", func(r *http.Request) { r.Host = "lantern.example" }, 421, "not the watcher"},
		{"POST", alertPath, nil, 403, "needs a token with that right"},
		{"POST", alertPath, with(c.tokens["trial read"]), 403, "needs a token with that right"},
		{"POST", alertPath, with(c.tokens["live acknowledge"]), 403, "needs a token with that right"},
		{"POST", alertPath, func(r *http.Request) {
			with(c.tokens["trial acknowledge"])(r)
			r.Header.Set("Origin", "https://lantern.example")
			r.Header.Set("Sec-Fetch-Site", "cross-site")
		}, 403, "another origin"},
		{"GET", "/", with("watch-NONE"), 401, "knows no such token"},
	} {
		status, said := c.ask(x.method, x.path, x.change, "why", "storm")
		require.Equal(t, x.status, status, "%s %s %s", x.method, x.path, said)
		require.Contains(t, said, x.says, "%s %s", x.method, x.path)
		require.NotContains(t, said, "<b>", "a name is no markup")
	}
	require.Empty(t, c.acks)
	_, said := c.ask("GET", "/", afar(c.tokens["trial read"]))
	require.NotContains(t, said, "live")

	mine := with(c.tokens["trial acknowledge"])
	for _, wrong := range [][]string{{"why", ""}, {"why", strings.Repeat("x", 501)}, {"why", "storm", "until", "tomorrow"},
		{"why", "storm", "until", "2026-11-28"}} {
		status, _ := c.ask("POST", alertPath, mine, wrong...)
		require.Equal(t, 422, status, wrong)
	}
	status, said := c.ask("POST", alertPath, mine, "why", "full disk")
	require.Equal(t, 502, status)
	require.Contains(t, said, "the disk is full")
	require.Contains(t, said, `value="full disk"`, "what was typed is not lost")
	status, _ = c.ask("POST", alertPath, mine, "why", strings.Repeat("x", 1<<20))
	require.Equal(t, 422, status, "a form without end")
	require.Empty(t, c.acks)
	status, said = c.ask("POST", alertPath, mine, "why", "storm damage", "until", "2026-11-30")
	require.Equal(t, 303, status, said)
	require.Equal(t, []string{"trial k7d2m9qt {trial-acknowledge storm damage 2026-11-30}"}, c.acks)
	_, said = c.ask("GET", alertPath, nil)
	require.Contains(t, said, "acknowledged by trial-acknowledge: storm damage, until 2026-11-30")

	// one that was taken away opens nothing, and its cookie is forgotten
	s := c.states["trial"].Clone()
	s.Fold(c.now, "p", &alert.Line{Token: &alert.Token{Name: "trial-read", Away: true}})
	c.board.Seen("trial", s, nil)
	status, said = c.ask("GET", "/", afar(c.tokens["trial read"]))
	require.Equal(t, 303, status, said)
}

// TestEnter: a token is kept in a cookie that scripts and other sites do not get, and the form leads to pages of this server only.
func TestEnter(t *testing.T) {
	c := newCoast(t, page.Options{})
	post := func(token, back string) *http.Response {
		client := http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		res, err := client.PostForm(c.at.URL+"/enter", url.Values{"token": {token}, "back": {back}})
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res
	}
	res := post(" "+c.tokens["trial read"]+"\n", "/alerts?state=all")
	require.Equal(t, 303, res.StatusCode)
	require.Equal(t, "/alerts?state=all", res.Header.Get("Location"))
	cookie := res.Cookies()[0]
	require.True(t, cookie.HttpOnly)
	require.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	for _, elsewhere := range []string{"https://lantern.example", "//lantern.example", `/\lantern.example`, "", "javascript:hurt()"} {
		require.Equal(t, "/", post(c.tokens["trial read"], elsewhere).Header.Get("Location"), elsewhere)
	}
}

// TestGuesses: wrong tokens are few, also for right ones that come behind them from the same address.
func TestGuesses(t *testing.T) {
	c := newCoast(t, page.Options{})
	counts := map[int]int{}
	for range 50 {
		status, _ := c.ask("POST", "/enter", nil, "token", "watch-GUESS")
		counts[status]++
	}
	require.LessOrEqual(t, counts[403], 20) // ten at once, and one more every six seconds
	require.Equal(t, 50, counts[403]+counts[429])
	status, said := c.ask("GET", "/alerts", with(c.tokens["trial read"]))
	require.Equal(t, 429, status)
	require.Contains(t, said, "Too many wrong tokens")
	status, _ = c.ask("GET", "/alerts", nil)
	require.Equal(t, 200, status, "who needs none is not kept out")
}

// TestHealth: a watcher is sick when a survey is two periods late, or its journal was out of reach for minutes.
func TestHealth(t *testing.T) {
	c := newCoast(t, page.Options{})
	health := func(want int) string {
		t.Helper()
		status, said := c.ask("GET", "/healthz", nil)
		require.Equal(t, want, status, said)
		_, metrics := c.ask("GET", "/metrics", nil)
		require.Contains(t, metrics, fmt.Sprintf("kasbah_healthy %d", map[int]int{200: 1, 503: 0}[want]))
		return said
	}
	health(200)
	c.now = c.now.Add(2*time.Hour + 50*time.Minute)
	health(200)
	c.now = c.now.Add(2 * time.Hour)
	require.Contains(t, health(503), "live: the survey of shore that was due at 2026-11-29T13:00:00Z is two periods late")
	_, said := c.ask("GET", "/healthz", afar(""))
	require.Equal(t, "not healthy\n", said, "who may not read hears no more")
	for env, s := range c.states {
		s = s.Clone()
		due := c.now.Truncate(time.Hour)
		s.Fold(c.now, "r", &alert.Line{Claim: &alert.Claim{Ward: "shore", Due: due}})
		require.Empty(t, s.Fold(c.now, "r", &alert.Line{Survey: &alert.Survey{Ward: "shore", Due: &due}}))
		c.board.Seen(env, s, nil)
	}
	health(200)
	c.board.Seen("live", nil, errors.New("the store does not answer"))
	health(200)
	c.now = c.now.Add(3 * time.Minute)
	require.Contains(t, health(503), "live: the journal cannot be read since 2026-11-29T16:50:00Z: the store does not answer")
	_, said = c.ask("GET", "/", nil)
	require.Contains(t, said, "medina.machine/", "what was known is still shown")
	c.board.Seen("live", c.states["live"], nil)
}

// TestSecure: beyond this machine the page is served over TLS, with a certificate that is kept, or with one
// that is given.
func TestSecure(t *testing.T) {
	own := t.TempDir() + "/watch"
	cert, _, err := transport.OwnCertificate("127.0.0.1:0", own)
	require.NoError(t, err)
	c := newCoast(t, page.Options{Cert: own + ".crt", Key: own + ".key"})
	require.True(t, strings.HasPrefix(c.at.URL, "https://"))
	roots := x509.NewCertPool()
	roots.AddCert(cert.Leaf)
	client := http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}
	res, err := client.Get(c.at.URL + "/healthz")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.Equal(t, 200, res.StatusCode)
	for _, wrong := range []page.Options{{Address: "127.0.0.1"}, {Address: "127.0.0.1:0", Cert: own + ".crt"},
		{Address: "127.0.0.1:0", Cert: own + ".key", Key: own + ".crt"}, {Address: "127.0.0.1:99999"}} {
		_, err := page.Listen(c.board, page.NewCounters(c.board), wrong)
		require.Error(t, err, "%v", wrong)
	}
}
