package medina_test

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/drivers/conformance"
	"kasbah/drivers/drivertest"
	"kasbah/medina"
)

// land is a Medina with a network, a subnet in each of two zones, and a machine in
// each.
type land struct {
	*testing.T
	d                driver.Driver
	net, quay, pier  string
	gauge, far, tell string
}

func newLand(t *testing.T) *land {
	l := &land{T: t, d: open(t, medina.Options{})}
	l.net = l.must("network", value.Map{"range": "10.20.0.0/16"}).ID
	l.quay = l.must("subnet", value.Map{"network": l.net, "range": "10.20.1.0/24"}).ID
	l.pier = l.must("subnet", value.Map{"network": l.net, "range": "10.20.2.0/24", "zone": "north-2"}).ID
	l.gauge = l.must("machine", value.Map{"subnet": l.quay, "size": "tiny", "image": "stone-1"}).ID
	l.far = l.must("machine", value.Map{"subnet": l.pier, "size": "tiny", "image": "stone-1"}).ID
	l.tell = l.must("topic", value.Map{"name": "keepers"}).ID
	return l
}

func (l *land) must(typ string, in value.Map) driver.Live {
	l.Helper()
	live, err := l.d.Create(context.Background(), typ, in, "")
	require.NoError(l, err)
	return live
}

// no wants a refusal of one attribute.
func (l *land) no(typ string, in value.Map, path, words string) {
	l.Helper()
	_, err := l.d.Create(context.Background(), typ, in, "")
	refused(l.T, err, path, words)
}

func (l *land) edit(typ, id string, from, to value.Map) (driver.Live, error) {
	return l.d.Update(context.Background(), typ, id, driver.Change{From: from, To: to}, "", "")
}

func rules(list ...value.Map) []any {
	out := make([]any, len(list))
	for i, r := range list {
		out[i] = map[string]any(r)
	}
	return out
}

// TestTypesRefuse: what each type refuses beyond its schema, at the attribute that
// is to be changed.
func TestTypesRefuse(t *testing.T) {
	l := newLand(t)
	l.no("firewall", value.Map{"network": l.net, "rules": rules(value.Map{"protocol": "tcp", "ports": "80",
		"from": "0.0.0.0/0"}, value.Map{"protocol": "icmp", "ports": "1", "from": "0.0.0.0/0"})}, "rules[1].ports",
		"icmp has no ports")
	l.no("firewall", value.Map{"network": l.net, "rules": rules(value.Map{"protocol": "udp", "from": "0.0.0.0/0"})},
		"rules[0].ports", "udp needs ports")
	l.no("firewall", value.Map{"network": l.net, "rules": rules(value.Map{"protocol": "udp", "ports": "90-80",
		"from": "0.0.0.0/0"})}, "rules[0].ports", "the first before the last")
	l.no("firewall", value.Map{"network": l.net, "rules": rules(value.Map{"protocol": "udp", "ports": "80",
		"from": "here"})}, "rules[0].from", "")
	l.must("firewall", value.Map{"network": l.net, "name": "in",
		"rules": rules(value.Map{"protocol": "tcp", "ports": "8000-8010", "from": "10.0.0.0/8"})})
	l.no("firewall", value.Map{"network": l.net, "name": "in", "rules": rules()}, "name", "exists already")

	l.no("address", value.Map{"machine": l.far}, "machine", "is in north-2")
	adr := l.must("address", value.Map{"machine": l.gauge})
	require.True(t, strings.HasPrefix(adr.Attributes["address"].(string), "198.18."))
	l.no("address", value.Map{"machine": l.gauge}, "machine", "exists already")
	_, err := l.edit("address", adr.ID, value.Map{"machine": l.gauge}, nil)
	require.NoError(t, err)
	l.must("address", value.Map{"machine": l.gauge})

	l.no("certificate", value.Map{"names": []any{"no good"}}, "names[0]", "")
	crt := l.must("certificate", value.Map{"names": []any{"lantern-coast.example", "*.lantern-coast.example"},
		"days": int64(30)})
	block, _ := pem.Decode([]byte(crt.Attributes["pem"].(string)))
	cert, err := x509.ParseCertificate(block.Bytes)
	require.NoError(t, err)
	require.NoError(t, cert.VerifyHostname("gauge.lantern-coast.example"))
	require.Equal(t, cert.NotAfter.Format(time.RFC3339), crt.Attributes["expires"])

	l.no("balancer", value.Map{"subnet": l.quay, "port": int64(443), "protocol": "tls"}, "certificate",
		"needs a certificate")
	l.no("balancer", value.Map{"subnet": l.quay, "port": int64(80), "certificate": crt.ID}, "certificate",
		"only a balancer for tls")
	l.no("balancer", value.Map{"subnet": l.quay, "port": int64(80), "machines": []any{l.gauge, l.gauge}}, "machines[1]",
		"twice")
	l.no("balancer", value.Map{"subnet": l.quay, "port": int64(80), "machines": []any{"mac-9999"}}, "machines[0]",
		"there is no machine")
	other := l.must("network", value.Map{"range": "10.30.0.0/16"}).ID
	away := l.must("subnet", value.Map{"network": other, "range": "10.30.1.0/24"}).ID
	l.no("balancer", value.Map{"subnet": away, "port": int64(80), "machines": []any{l.gauge}}, "machines[0]",
		"is in network")
	bal := l.must("balancer", value.Map{"subnet": l.quay, "port": int64(443), "protocol": "tls", "certificate": crt.ID,
		"machines": []any{l.gauge, l.far}})
	require.Equal(t, "10.20.1.3", bal.Attributes["address"])
	refused(t, l.d.Delete(context.Background(), "machine", l.far, "", ""), "", "is in use by balancer")
	_, err = l.edit("balancer", bal.ID, value.Map{"machines": []any{l.gauge, l.far}},
		value.Map{"machines": []any{l.gauge}})
	require.NoError(t, err)
	require.NoError(t, l.d.Delete(context.Background(), "machine", l.far, "", ""),
		"who is not in the list any more can go")

	l.no("job", value.Map{"schedule": "every day", "image": "stone-1", "command": []any{"count"}}, "schedule",
		"is not a schedule")
	l.must("job", value.Map{"schedule": "30 4 * * 1", "image": "stone-1", "command": []any{"count"}, "topic": l.tell})
	l.no("alarm", value.Map{"measures": "load", "above": 0.9, "topic": l.tell}, "machine",
		"watches a machine, a queue or a database")
	que := l.must("queue", value.Map{"name": "readings"})
	l.no("alarm", value.Map{"measures": "load", "above": 0.9, "topic": l.tell, "machine": l.gauge, "queue": que.ID},
		"queue", "watches one thing")
	l.no("alarm", value.Map{"measures": "load", "above": 0.9, "topic": l.tell, "queue": que.ID}, "measures",
		"a queue has no load")
	l.no("queue", value.Map{"name": "second", "tries": int64(3)}, "failed", "go together")
	_, err = l.edit("queue", que.ID, nil, value.Map{"tries": int64(3), "failed": que.ID})
	refused(t, err, "failed", "cannot be its own")
	l.no("topic", value.Map{"name": "twice", "queues": []any{que.ID, que.ID}}, "queues[1]", "twice")
	l.no("topic", value.Map{"name": "mails", "mail": []any{"nobody"}}, "mail[0]", "")

	key := l.must("key", value.Map{"enabled": false})
	l.no("table", value.Map{"name": "tides", "key": "light", "seal": key.ID}, "seal", "is switched off")
	l.no("table", value.Map{"name": "tides", "key": "light", "order": "light"}, "order", "cannot be in the order")
	tab := l.must("table", value.Map{"name": "tides", "key": "light", "protected": true})
	refused(t, l.d.Delete(context.Background(), "table", tab.ID, "", ""), "protected", "is protected")

	base := value.Map{"subnet": l.quay, "size": "small", "gigabytes": int64(20), "password": "twelve letters",
		"engine": "tabular-16"}
	l.no("database", value.Map{"subnet": l.quay, "size": "small", "gigabytes": int64(20)}, "password", "required")
	dbs := l.must("database", base)
	require.NotContains(t, dbs.Attributes, "password", "a secret is never shown")
	_, err = l.edit("database", dbs.ID, value.Map{"engine": "tabular-16"}, value.Map{"engine": "tabular-15"})
	refused(t, err, "engine", "cannot go back")
	_, err = l.edit("database", dbs.ID, value.Map{"gigabytes": int64(20)}, value.Map{"gigabytes": int64(10)})
	refused(t, err, "gigabytes", "cannot shrink")

	l.no("bucket", value.Map{"name": "pages", "site": true}, "site", "is not public")
	l.no("object", value.Map{"bucket": "bkt-9999", "path": "a", "text": "b"}, "bucket", "there is no bucket")
	l.no("role", value.Map{"name": "teller", "grants": rules(value.Map{"may": "read", "on": "boat/*"})}, "grants[0].on",
		"has no type boat")
	l.no("role", value.Map{"name": "teller", "grants": rules(value.Map{"may": "read", "on": "queue/que-9999"})},
		"grants[0].on", "there is no queue")
	l.must("role", value.Map{"name": "teller", "grants": rules(value.Map{"may": "read", "on": "queue/" + que.ID},
		value.Map{"may": "write", "on": "table/*"})})
}

// TestSecretsStay: what is secret comes in and never out again: not shown, not
// listed, not in the feed, and compared all the same.
func TestSecretsStay(t *testing.T) {
	l := newLand(t)
	s := l.must("secret", value.Map{"name": "lamp-code", "value": "first-word"})
	require.EqualValues(t, 1, s.Attributes["version"])
	s, err := l.edit("secret", s.ID, value.Map{"value": nil}, value.Map{"value": "second-word"})
	require.NoError(t, err)
	require.EqualValues(t, 2, s.Attributes["version"])
	same, err := l.edit("secret", s.ID, nil, value.Map{"value": "second-word"})
	require.NoError(t, err)
	require.EqualValues(t, 2, same.Attributes["version"], "the same value again is not a change")
	tagged, err := l.edit("secret", s.ID, nil, value.Map{"tags": value.Map{"a": "b"}})
	require.NoError(t, err)
	require.EqualValues(t, 2, tagged.Attributes["version"], "another edit keeps the value")
	for live, err := range l.d.List(context.Background(), "secret") {
		require.NoError(t, err)
		require.NotContains(t, fmt.Sprint(live), "word")
	}
	for e, err := range l.d.(driver.Feed).Changes(context.Background(), driver.Events{ID: s.ID}) {
		require.NoError(t, err)
		require.NotContains(t, fmt.Sprint(e), "-word")
	}
}

// TestConformanceOfTypes runs the suite on types of which each has a way of its own.
func TestConformanceOfTypes(t *testing.T) {
	for _, s := range []struct {
		typ    string
		inputs func(l *land, n int) value.Map
		edit   driver.Change
	}{
		{"secret", func(l *land, n int) value.Map {
			return value.Map{"name": fmt.Sprint("word-", n), "value": "open"}
		}, driver.Change{From: value.Map{}, To: value.Map{"value": "shut", "tags": value.Map{"a": "b"}}}},
		{"balancer", func(l *land, n int) value.Map {
			return value.Map{"name": fmt.Sprint("b-", n), "subnet": l.quay, "port": int64(80),
				"machines": []any{l.gauge}}
		}, driver.Change{From: value.Map{"public": false}, To: value.Map{"public": true}}},
		{"table", func(l *land, n int) value.Map {
			return value.Map{"name": fmt.Sprint("t-", n), "key": "light"}
		}, driver.Change{From: value.Map{"capacity": int64(5)}, To: value.Map{"capacity": int64(50)}}},
		{"role", func(l *land, n int) value.Map {
			return value.Map{"name": fmt.Sprint("r-", n), "grants": rules(value.Map{"may": "read", "on": "queue/*"})}
		}, driver.Change{From: value.Map{}, To: value.Map{"grants": []any{}}}},
	} {
		t.Run(s.typ, func(t *testing.T) {
			l := newLand(t)
			drivertest.Run(t, l.d, conformance.Sample{Type: s.typ, Inputs: func(n int) value.Map {
				return s.inputs(l,
					n)
			}, Edit: s.edit})
		})
	}
}

// serve runs a Medina on its own.
func serve(t *testing.T, o medina.Options) *medina.Listener {
	o.Path = filepath.Join(t.TempDir(), "medina.db")
	l, err := medina.Listen("127.0.0.1:0", o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, l.Close()) })
	return l
}

func get(t *testing.T, url string, header ...string) (int, string, http.Header) {
	req, err := http.NewRequest("GET", url, nil)
	require.NoError(t, err)
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(body), res.Header
}

// TestSites: the objects of a bucket that is a site are pages for anybody.
func TestSites(t *testing.T) {
	ctx, l := context.Background(), serve(t, medina.Options{Tokens: true})
	path, err := l.Server.FirstToken(ctx)
	require.NoError(t, err)
	d, err := medina.Settings{API: l.URL, Token: fromFile(t, path)}.Driver("")
	require.NoError(t, err)
	defer d.Close()
	b, err := d.Create(ctx, "bucket", value.Map{"name": "pages", "public": true, "site": true}, "")
	require.NoError(t, err)
	_, err = d.Create(ctx, "object", value.Map{"bucket": b.ID, "path": "index.html", "text": "<h1>Lights</h1>",
		"media_type": "text/html; charset=utf-8"}, "")
	require.NoError(t, err)
	_, err = d.Create(ctx, "object", value.Map{"bucket": b.ID, "path": "tides/today.json", "text": "{}",
		"media_type": "application/json"}, "")
	require.NoError(t, err)
	status, body, h := get(t, l.URL+"/sites/pages/")
	require.Equal(t, 200, status)
	require.Equal(t, "<h1>Lights</h1>", body)
	require.Equal(t, "text/html; charset=utf-8", h.Get("Content-Type"))
	require.Contains(t, h.Get("Content-Security-Policy"), "sandbox")
	status, _, _ = get(t, l.URL+"/sites/pages/", "If-None-Match", h.Get("ETag"))
	require.Equal(t, 304, status)
	_, body, _ = get(t, l.URL+"/sites/pages/tides/today.json")
	require.Equal(t, "{}", body)
	for _, none := range []string{"/sites/pages/none", "/sites/none/", "/sites/pages/../../tokens"} {
		status, _, _ = get(t, l.URL+none)
		require.NotEqual(t, 200, status, none)
	}
	_, err = d.Update(ctx, "bucket", b.ID, driver.Change{To: value.Map{"site": false}}, "", "")
	require.NoError(t, err)
	status, _, _ = get(t, l.URL+"/sites/pages/")
	require.Equal(t, 404, status)
}

// TestSnapshots: a snapshot brings all back, tokens stay as they are, and what is
// none is refused.
func TestSnapshots(t *testing.T) {
	ctx := context.Background()
	s := medina.Settings{API: "embedded", Options: medina.Options{Path: filepath.Join(t.TempDir(), "medina.db")}}
	d, err := s.Driver("keeper-1")
	require.NoError(t, err)
	defer d.Close()
	count := func() (n int) {
		for _, err := range d.List(ctx, "secret") {
			require.NoError(t, err)
			n++
		}
		return n
	}
	for i := range 3 {
		_, err := d.Create(ctx, "secret", value.Map{"name": fmt.Sprint("s-", i), "value": "word"}, "")
		require.NoError(t, err)
	}
	var kept bytes.Buffer
	require.NoError(t, s.Snapshot(ctx, &kept))
	require.NoError(t, s.Reset(ctx, nil))
	require.Zero(t, count())
	_, err = d.Create(ctx, "secret", value.Map{"name": "other", "value": "word"}, "")
	require.NoError(t, err)
	require.ErrorContains(t, s.Reset(ctx, strings.NewReader("no database")), "not a snapshot of a Medina")
	require.Equal(t, 1, count(), "what is refused takes nothing away")
	require.NoError(t, s.Reset(ctx, bytes.NewReader(kept.Bytes())))
	require.Equal(t, 3, count())
	_, err = d.Create(ctx, "secret", value.Map{"name": "s-1", "value": "word"}, "")
	require.ErrorContains(t, err, "exists already", "what is unique is known again")
	next, err := d.Create(ctx, "secret", value.Map{"name": "s-9", "value": "word"}, "")
	require.NoError(t, err)
	require.Equal(t, "sec-0004", next.ID, "ids go on where they were")
}
