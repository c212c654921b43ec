package medina_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/drivers/conformance"
	"kasbah/drivers/drivertest"
	"kasbah/medina"
)

func open(t *testing.T, o medina.Options) driver.Driver {
	if o.Path == "" {
		o.Path = filepath.Join(t.TempDir(), "medina.db")
	}
	d, err := medina.Settings{API: "embedded", Options: o}.Driver("tester")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

// TestConformance drives Medina through the OpenAPI driver, once at once and
// once with work that takes time.
func TestConformance(t *testing.T) {
	for _, pace := range []float64{0, 0.002} {
		t.Run(fmt.Sprintf("disks at pace %v", pace), func(t *testing.T) {
			drivertest.Run(t, open(t, medina.Options{Pace: pace}), conformance.Sample{
				Type: "disk",
				Inputs: func(n int) value.Map {
					return value.Map{"name": fmt.Sprintf("disk-%d", n),
						"gigabytes": int64(10)}
				},
				Edit: driver.Change{From: value.Map{"gigabytes": int64(10)}, To: value.Map{"gigabytes": int64(20)}},
			})
		})
		t.Run(fmt.Sprintf("buckets at pace %v", pace), func(t *testing.T) {
			drivertest.Run(t, open(t, medina.Options{Pace: pace}), conformance.Sample{
				Type: "bucket",
				Inputs: func(n int) value.Map {
					return value.Map{"name": fmt.Sprintf("bucket-%d", n), "tags": value.Map{"n": fmt.Sprint(n)}}
				},
				Edit: driver.Change{From: value.Map{"versions": false}, To: value.Map{"versions": true}},
			})
		})
	}
}

// refused wants a refusal of one attribute.
func refused(t *testing.T, err error, path, words string) {
	t.Helper()
	var e *driver.Error
	require.ErrorAs(t, err, &e)
	require.Contains(t, e.Error(), words)
	if path != "" {
		require.NotEmpty(t, e.Problems)
		require.Equal(t, path, e.Problems[0].Path)
	}
}

func TestBehaviour(t *testing.T) {
	ctx := context.Background()
	d := open(t, medina.Options{Quotas: map[string]int64{"machine": 3}})
	create := func(typ string, in value.Map) (driver.Live, error) { return d.Create(ctx, typ, in, "") }
	must := func(typ string, in value.Map) driver.Live {
		t.Helper()
		l, err := create(typ, in)
		require.NoError(t, err)
		return l
	}
	net := must("network", value.Map{"range": "10.20.0.0/16", "name": "coast"})
	require.Equal(t, "10.20.0.1", net.Attributes["gateway"])
	quay := must("subnet", value.Map{"network": net.ID, "range": "10.20.1.0/29"})
	require.Equal(t, "north-1", quay.Attributes["zone"], "a default is filled in")
	require.EqualValues(t, 5, quay.Attributes["free"])

	_, err := create("subnet", value.Map{"network": net.ID, "range": "10.21.0.0/24"})
	refused(t, err, "range", "is not inside 10.20.0.0/16")
	_, err = create("subnet", value.Map{"network": net.ID, "range": "10.20.0.0/22"})
	refused(t, err, "range", "overlaps 10.20.1.0/29")
	_, err = create("subnet", value.Map{"network": net.ID, "range": "10.20.1.4/30"})
	refused(t, err, "range", "prefix")
	_, err = create("subnet", value.Map{"network": "net-9999", "range": "10.20.2.0/24"})
	refused(t, err, "network", "there is no network net-9999")
	_, err = create("network", value.Map{"range": "10.20.0.0/16", "gateway": "10.20.0.9"})
	refused(t, err, "gateway", "decided by the cloud")

	mac := must("machine", value.Map{"subnet": quay.ID, "size": "small", "image": "stone-1"})
	require.Equal(t, "10.20.1.2", mac.Attributes["address"])
	two := must("machine", value.Map{"subnet": quay.ID, "size": "small", "image": "stone-1"})
	must("machine", value.Map{"subnet": quay.ID, "size": "small", "image": "stone-1"})
	_, err = create("machine", value.Map{"subnet": quay.ID, "size": "small", "image": "stone-1"})
	refused(t, err, "", "has room for 3 of type machine")
	now, err := d.Read(ctx, "subnet", quay.ID)
	require.NoError(t, err)
	require.EqualValues(t, 2, now.Attributes["free"], "machines take addresses")
	require.NotEqual(t, quay.Tag, now.Tag, "and that is a change of the subnet")
	require.NoError(t, d.Delete(ctx, "machine", two.ID, "", ""))

	err = d.Delete(ctx, "network", net.ID, "", "")
	refused(t, err, "", "is in use by subnet")
	_, err = d.Update(ctx, "machine", mac.ID, driver.Change{From: value.Map{"image": "stone-1"},
		To: value.Map{"image": "stone-2"}}, "", "")
	refused(t, err, "image", "cannot be changed")

	disk := must("disk", value.Map{"gigabytes": int64(20), "machine": mac.ID})
	_, err = d.Update(ctx, "disk", disk.ID, driver.Change{From: value.Map{"gigabytes": int64(20)},
		To: value.Map{"gigabytes": int64(10)}}, "", "")
	refused(t, err, "gigabytes", "cannot shrink")
	_, err = create("disk", value.Map{"gigabytes": int64(5), "machine": mac.ID, "zone": "north-2"})
	refused(t, err, "machine", "is in north-1")
	free, err := d.Update(ctx, "disk", disk.ID, driver.Change{From: value.Map{"machine": mac.ID}, To: value.Map{}},
		disk.Tag, "")
	require.NoError(t, err)
	require.NotContains(t, free.Attributes, "machine", "an attribute can be taken away")

	must("bucket", value.Map{"name": "found-things"})
	_, err = create("bucket", value.Map{"name": "found-things"})
	refused(t, err, "name", "exists already (bkt-0001)")
	must("record", value.Map{"name": "a.example", "kind": "A", "values": []any{"10.0.0.1"}})
	must("record", value.Map{"name": "a.example", "kind": "TXT", "values": []any{"words"}})
	_, err = create("record", value.Map{"name": "a.example", "kind": "A", "values": []any{"10.0.0.2"}})
	refused(t, err, "name", "exists already")
	_, err = create("record", value.Map{"name": "b.example", "kind": "A", "values": []any{"10.0.0.1", "not one"}})
	refused(t, err, "values[1]", "is not an IPv4 address")
	_, err = create("record", value.Map{"name": "c.example", "kind": "CNAME", "values": []any{"a.", "b."}})
	refused(t, err, "values", "exactly one value")

	var last driver.Event
	for e, err := range d.(driver.Feed).Changes(ctx, driver.Events{ID: disk.ID}) {
		require.NoError(t, err)
		last = e
		break
	}
	require.Equal(t, "edited", last.What)
	require.Equal(t, "tester", last.Who)
	require.Equal(t, []string{"machine"}, last.Paths)
	require.WithinDuration(t, time.Now(), last.At, time.Minute)
}

// TestSeveralAtOnce: several servers on one database file, as several
// commands have them.
func TestSeveralAtOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), "medina.db")
	var wg sync.WaitGroup
	for i := range 4 {
		d := open(t, medina.Options{Path: path})
		wg.Go(func() {
			for n := range 25 {
				_, err := d.Create(context.Background(), "bucket", value.Map{"name": fmt.Sprintf("b-%d-%d", i, n)},
					fmt.Sprintf("k-%d-%d", i, n))
				if err != nil {
					t.Errorf("create: %v", err)
				}
			}
		})
	}
	wg.Wait()
	count := 0
	for _, err := range open(t, medina.Options{Path: path}).List(context.Background(), "bucket") {
		require.NoError(t, err)
		count++
	}
	require.Equal(t, 100, count)
}

// TestHTTP looks at the answers as another client would see them.
func TestHTTP(t *testing.T) {
	l, err := medina.Listen("127.0.0.1:0", medina.Options{Path: filepath.Join(t.TempDir(), "medina.db"), Pace: 0.01})
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	send := func(method, path, body string, header ...string) (*http.Response, string) {
		t.Helper()
		req, err := http.NewRequest(method, l.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		for i := 0; i+1 < len(header); i += 2 {
			req.Header.Set(header[i], header[i+1])
		}
		res, err := client.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		out, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		return res, string(out)
	}
	res, _ := send("POST", "/networks", `{"range": "10.0.0.0/16"}`, "Idempotency-Key", "k1")
	require.Equal(t, 202, res.StatusCode)
	place := res.Header.Get("Location")
	require.NotEmpty(t, res.Header.Get("Retry-After"))
	again, _ := send("POST", "/networks", `{"range": "10.0.0.0/16"}`, "Idempotency-Key", "k1")
	require.Equal(t, place, again.Header.Get("Location"), "the same answer for the same key")
	other, body := send("POST", "/networks", `{"range": "10.1.0.0/16"}`, "Idempotency-Key", "k1")
	require.Equal(t, 422, other.StatusCode, body)
	res, _ = send("GET", place, "", "Prefer", "wait=10")
	require.Equal(t, 303, res.StatusCode)
	res, body = send("GET", res.Header.Get("Location"), "")
	require.Equal(t, 200, res.StatusCode)
	require.Equal(t, `"1"`, res.Header.Get("ETag"))
	require.Contains(t, body, `"gateway":"10.0.0.1"`)

	res, body = send("POST", "/networks", `{"range": "rubbish", "size": 3}`)
	require.Equal(t, 422, res.StatusCode)
	require.Equal(t, "application/problem+json", res.Header.Get("Content-Type"))
	var p struct {
		Status int
		Errors []struct{ Pointer, Detail string }
	}
	require.NoError(t, json.Unmarshal([]byte(body), &p))
	require.Equal(t, 422, p.Status)
	require.Len(t, p.Errors, 2, "all that is wrong at once")
	require.Equal(t, "/range", p.Errors[0].Pointer)

	for _, c := range []struct {
		method, path, body string
		want               int
	}{
		{"POST", "/networks", `[1]`, 400}, {"POST", "/networks", `{`, 400}, {"GET", "/networks?limit=0", "", 400},
		{"GET", "/networks/none", "", 404},
		{"GET", "/nothing", "", 404}, {"PUT", "/networks", "", 405}, {"GET", "/operations/none", "", 404},
		{"POST", "/networks", `{"name": "` + strings.Repeat("x", 2<<20) + `"}`, 413},
	} {
		t.Run(c.method, func(t *testing.T) {
			res, body := send(c.method, c.path, c.body)
			require.Equal(t, c.want, res.StatusCode, "%s %s: %s", c.method, c.path, body)
		})
	}
	for i := range 5 {
		send("POST", "/buckets", fmt.Sprintf(`{"name": "page-%d"}`, i))
	}
	res, body = send("GET", "/buckets?limit=2", "")
	require.Equal(t, 2, strings.Count(body, `"id"`))
	require.Contains(t, res.Header.Get("Link"), `rel="next"`)
	res, body = send("GET", "/openapi.json", "")
	require.Equal(t, 200, res.StatusCode)
	require.Equal(t, string(medina.Document()), body)
}

// FuzzRequests: no request makes the server fail; each is done or refused
// with a reason.
func FuzzRequests(f *testing.F) {
	s, err := medina.Open(medina.Options{Path: filepath.Join(f.TempDir(), "medina.db")})
	require.NoError(f, err)
	f.Cleanup(func() { s.Close() })
	send := func(method, path, body, tag string) *httptest.ResponseRecorder {
		r := httptest.NewRequest(method, "http://127.0.0.1/", strings.NewReader(body))
		r.URL.Path = path
		r.Header.Set("If-Match", tag)
		w := httptest.NewRecorder()
		s.ServeHTTP(w, r)
		return w
	}
	send("POST", "/networks", `{"range": "10.0.0.0/16"}`, "")
	send("POST", "/subnets", `{"network": "net-0001", "range": "10.0.1.0/24"}`, "")
	for _, x := range [][4]string{
		{"POST", "/machines", `{"subnet": "sub-0001", "size": "tiny", "image": "x", "tags": {"a": "b"}}`, ""},
		{"PATCH", "/machines/mac-0001", `{"size": null, "tags": {"a": null}, "subnet": "net-0001"}`, `"1"`},
		{"POST", "/subnets", `{"network": "net-0001", "range": "0.0.0.0/0"}`, ""},
		{"POST", "/records", `{"name": "a", "kind": "A", "values": [["x"]], "ttl": 1e400}`, ""},
		{"POST", "/disks", `{"gigabytes": 1.5, "machine": {"a": 1}}`, ""},
		{"DELETE", "/networks/net-0001", ``, `*`},
		{"GET", "/networks", ``, ``}, {"GET", "/events", ``, ``}, {"GET", "/operations/op-000001", ``, ``},
		{"PATCH", "/buckets/bkt-0001", `{"$pending": {"address": "a", "path": "["}}`, ``},
	} {
		f.Add(x[0], x[1], x[2], x[3])
	}
	f.Fuzz(func(t *testing.T, method, path, body, tag string) {
		switch method {
		case "GET", "POST", "PATCH", "DELETE", "PUT", "HEAD":
		default:
			return
		}
		w := send(method, path, body, tag)
		require.Less(t, w.Code, 500, "%s %s %s: %s", method, path, body, w.Body)
		if w.Code >= 400 && w.Code != http.StatusMethodNotAllowed {
			require.Equal(t, "application/problem+json", w.Header().Get("Content-Type"))
		}
	})
}
