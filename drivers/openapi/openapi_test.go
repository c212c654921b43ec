package openapi_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"log"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/drivers/openapi"
	"kasbah/drivers/openapi/examples/harbour"
	"kasbah/medina"
)

// lampDocument describes an API that has little in common with Medina's: YAML,
// nested objects, another id, no tags and no keys.
const lampDocument = `
openapi: 3.1.0
info: {title: Lamps, version: "7"}
paths:
  /v1/lamps:
    get: {responses: {"200": {description: all}}}
components:
  schemas:
    Lamp:
      type: object
      description: a lamp of a lighthouse
      required: [power]
      x-kasbah: {type: lamp, path: /v1/lamps, id: serial, order: [power, colour]}
      properties:
        serial: {type: string, readOnly: true}
        colour: {type: string, enum: [white, red, green], default: white, x-kasbah: {default-on-absence: true}}
        power: {type: integer, minimum: 1, maximum: 5000}
        code: {type: string, writeOnly: true}
        tower: {type: string, x-kasbah: {refers: tower, fixed: true, security: true}}
        beam:
          type: object
          required: [width]
          properties:
            width: {type: number}
            sectors: {type: array, items: {type: string}, maxItems: 4}
    Tower:
      type: object
      x-kasbah: {type: tower, path: /v1/lamps, tag: version, keys: 1h, holds-data: true, unique-name: true}
      properties:
        id: {type: string, readOnly: true}
        version: {type: integer, readOnly: true}
    Plain: {type: object}
`

func open(t testing.TB, document string, handler http.HandlerFunc) *openapi.Driver {
	s := httptest.NewServer(handler)
	t.Cleanup(s.Close)
	d, err := openapi.New(openapi.Options{Document: []byte(document), From: "keeper-1",
		Base: func(context.Context) (string, error) { return s.URL, nil }})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

func TestDocument(t *testing.T) {
	d := open(t, lampDocument, nil)
	c, err := d.Describe(context.Background())
	require.NoError(t, err)
	require.Equal(t, "7", c.Version)
	require.Equal(t, []string{"lamp", "tower"}, c.Names())
	lamp := c.Types["lamp"]
	require.Equal(t, "serial", lamp.ID)
	require.Equal(t, "a lamp of a lighthouse", lamp.Help)
	require.False(t, lamp.Tags)
	require.Zero(t, lamp.KeyMemory)
	require.Equal(t, "power", lamp.Attributes[0].Name, "in the order that the document asks for")
	power := lamp.Attribute("power")
	require.True(t, power.Required)
	require.Equal(t, 5000.0, *power.Max)
	colour := lamp.Attribute("colour")
	require.Equal(t, []any{"white", "red", "green"}, colour.OneOf)
	require.Equal(t, "white", colour.Default)
	require.True(t, lamp.Attribute("code").Secret)
	require.True(t, lamp.Attribute("serial").Output)
	tower := lamp.Attribute("tower")
	require.Equal(t, "tower", tower.Refers)
	require.True(t, tower.Fixed && tower.Security)
	beam := lamp.Attribute("beam")
	require.Equal(t, schema.Record, beam.Kind)
	_, faults := lamp.Check(value.Map{"power": int64(5), "beam": value.Map{"sectors": []any{"n", "e", "s", "w", "x"},
		"hight": int64(1)}})
	var said []string
	for _, f := range faults {
		said = append(said, f.Path.String()+": "+f.Message)
	}
	require.Equal(t, []string{"beam.hight: beam has no field \"hight\"",
		"beam.sectors: beam.sectors has 5 items, and at most 4 are allowed",
		"beam.width: beam.width is required and missing"}, said)
	require.Equal(t, time.Hour, c.Types["tower"].KeyMemory)
	require.True(t, c.Types["tower"].HoldsData)
	require.Equal(t, "drop-first", c.Types["tower"].Order())

	for _, c := range []struct{ document, words string }{
		{"", "cannot be read"},
		{"[1, 2", "cannot be read"},
		{"hello: you", "cannot be read"},
		{"openapi: 3.1.0\ninfo: {title: a, version: b}\npaths: {}\n", "no component and no path with x-kasbah"},
		{strings.ReplaceAll(lampDocument, "x-kasbah",
			"x-other"), "no component and no path with x-kasbah"},
		{strings.Replace(lampDocument, "path: /v1/lamps, id", "path: /v2, id",
			1), "names the path /v2 and does not describe it"},
		{strings.Replace(lampDocument, "keys: 1h", "keys: long", 1), "keys"},
		{strings.Replace(lampDocument, "type: lamp,", "", 1), "needs a type and a path"},
	} {
		t.Run(c.document, func(t *testing.T) {
			_, err := openapi.New(openapi.Options{Document: []byte(c.document)})
			require.ErrorContains(t, err, c.words, c.document)
		})
	}
}

// TestAnswers: what a server may say, and what becomes of it.
func TestAnswers(t *testing.T) {
	ctx := context.Background()
	var answer func(w http.ResponseWriter, r *http.Request)
	d := open(t, lampDocument, func(w http.ResponseWriter, r *http.Request) { answer(w, r) })
	say := func(status int, body string, header ...string) {
		answer = func(w http.ResponseWriter, r *http.Request) {
			for i := 0; i+1 < len(header); i += 2 {
				w.Header().Set(header[i], header[i+1])
			}
			w.WriteHeader(status)
			io.WriteString(w, body)
		}
	}
	read := func() (driver.Live, error) { return d.Read(ctx, "lamp", "l-1") }

	say(200, `{"serial": "l-1", "power": 12, "colour": null, "code": "hidden words"}`, "ETag", `"abc"`)
	l, err := read()
	require.NoError(t, err)
	require.Equal(t, driver.Live{ID: "l-1", Tag: `"abc"`, Attributes: value.Map{"serial": "l-1", "power": int64(12)}},
		l, "null is the same as absent, and no secret comes in")

	for _, c := range []struct {
		status int
		body   string
		words  string
		is     error
	}{
		{404, "", "it is gone", driver.ErrGone},
		{410, "", "it is gone", driver.ErrGone},
		{403, "no", "Forbidden", nil},
		{200, "not json", "is not a JSON object", nil},
		{200, "[]", "is not a JSON object", nil},
		{200, `{"power": 5}`, "shows a lamp without serial", nil},
		{500, "", "Internal Server Error", nil},
	} {
		t.Run(c.body, func(t *testing.T) {
			say(c.status, c.body)
			_, err := read()
			require.ErrorContains(t, err, c.words)
			if c.is != nil {
				require.ErrorIs(t, err, c.is)
			}
			passing, _ := driver.IsPassing(err)
			require.False(t, passing, c.status)
		})
	}
	say(422,
		`{"title": "no", "detail": "bad beam", "errors": [{"pointer": "/beam/sectors/2", "detail": "no such sector"}, {"pointer": "/a~1b", "detail": "x"}]}`, "Content-Type", "application/problem+json; charset=utf-8")
	_, err = d.Create(ctx, "lamp", value.Map{}, "")
	var e *driver.Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, "bad beam", e.Error())
	require.Equal(t, []driver.Problem{{Path: "beam.sectors[2]", Message: "no such sector"},
		{Path: "a/b", Message: "x"}}, e.Problems)

	say(429, "", "Retry-After", "7")
	_, err = d.Create(ctx, "lamp", value.Map{}, "")
	passing, after := driver.IsPassing(err)
	require.True(t, passing)
	require.Equal(t, 7*time.Second, after)

	say(412, "")
	_, err = d.Update(ctx, "lamp", "l-1", driver.Change{}, `"x"`, "")
	require.ErrorIs(t, err, driver.ErrTag)

	say(202, "")
	_, err = d.Create(ctx, "lamp", value.Map{}, "")
	require.ErrorContains(t, err, "does not say where to follow it")

	say(200, strings.Repeat("x", 65<<20))
	_, err = read()
	require.ErrorContains(t, err, "answers more than")
}

// TestRequests: what is sent.
func TestRequests(t *testing.T) {
	ctx := context.Background()
	var got *http.Request
	var body []byte
	d := open(t, lampDocument, func(w http.ResponseWriter, r *http.Request) {
		got = r
		body, _ = io.ReadAll(r.Body)
		io.WriteString(w, `{"serial": "l-1"}`)
	})
	_, err := d.Create(ctx, "lamp", value.Map{"power": int64(5), "beam": value.Map{"width": 2.5}}, "key-1")
	require.NoError(t, err)
	require.Equal(t, "POST /v1/lamps", got.Method+" "+got.URL.Path)
	require.Equal(t, "key-1", got.Header.Get("Idempotency-Key"))
	require.Equal(t, "keeper-1", got.Header.Get("From"))
	require.JSONEq(t, `{"power": 5, "beam": {"width": 2.5}}`, string(body))
	_, err = d.Update(ctx, "lamp", "l/1 ?", driver.Change{
		From: value.Map{"power": int64(5), "colour": "red", "beam": value.Map{"width": 2.5, "sectors": []any{"n"}}},
		To:   value.Map{"power": int64(6), "beam": value.Map{"width": 2.5}},
	}, `"t1"`, "key-2")
	require.NoError(t, err)
	require.Equal(t, "PATCH /v1/lamps/l%2F1%20%3F", got.Method+" "+got.URL.EscapedPath())
	require.Equal(t, `"t1"`, got.Header.Get("If-Match"))
	require.Equal(t, "application/merge-patch+json", got.Header.Get("Content-Type"))
	require.JSONEq(t, `{"power": 6, "colour": null, "beam": {"sectors": null}}`, string(body),
		"only what changes, absent ones as null")
	require.NoError(t, d.Delete(ctx, "lamp", "l-1", "", ""))
	require.Equal(t, "DELETE", got.Method)
}

// TestPages: lists in pages, arrays and objects alike; a list that never ends
// or lies is an error, and not a wrong answer.
func TestPages(t *testing.T) {
	ctx := context.Background()
	list := func(d *openapi.Driver) ([]string, error) {
		var ids []string
		for l, err := range d.List(ctx, "lamp") {
			if err != nil {
				return ids, err
			}
			ids = append(ids, l.ID)
		}
		return ids, nil
	}
	pages := map[string]string{"": `[{"serial": "a"}]`,
		"2": `{"lamps": [{"serial": "b"}, {"serial": "c"}], "total": 3}`, "3": `{"items": []}`}
	next := map[string]string{"": "2", "2": "3"}
	d := open(t, lampDocument, func(w http.ResponseWriter, r *http.Request) {
		p := r.URL.Query().Get("p")
		if n := next[p]; n != "" {
			w.Header().Add("Link", fmt.Sprintf(`</v1/lamps?p=0>; rel="prev", </v1/lamps?p=%s>; rel="next"`, n))
		}
		io.WriteString(w, pages[p])
	})
	ids, err := list(d)
	require.NoError(t, err)
	require.Equal(t, []string{"a", "b", "c"}, ids)
	for _, body := range []string{`{"a": 1}`, `[1]`, `nothing`, ``} {
		d := open(t, lampDocument, func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, body) })
		_, err := list(d)
		require.Error(t, err, body)
	}
	d = open(t, lampDocument, func(w http.ResponseWriter, r *http.Request) { io.WriteString(w, pages[""]) })
	for range d.List(ctx, "lamp") {
		break
	}
}

// TestSkim: whatever a cloud answers, a list that is skimmed says what one that is
// read says, but for the attributes that nobody wants.
func TestSkim(t *testing.T) {
	ctx := context.Background()
	var body []byte
	d := open(t, lampDocument, func(w http.ResponseWriter, r *http.Request) { w.Write(body) })
	read := func(list iter.Seq2[driver.Live, error]) (all []driver.Live, wrong string) {
		for l, err := range list {
			if err != nil {
				return all, err.Error()
			}
			all = append(all, l)
		}
		return all, ""
	}
	pieces := []string{`"`, `{`, `}`, `[`, `]`, `,`, `null`, `7`, `"id"`, `"version": "9"`, `"version": [1]`,
		`"id": "é\u00e9\\"`, ` `, "\xff", `"x": {"id": 3}`, `"id": 1.5`}
	whole, skimmed := 0, 0
	rnd := rand.New(rand.NewPCG(11, 2026))
	for range 3000 {
		body = []byte(`{"total": 3, "items": [{"id": "a", "version": 1, "beam": {"id": "no", "width": 1.5}}, {"version": "2", "id": "b\u00e9", "tags": ["x", {"y": null}]}, {"id": "c"}], "next": null}`)
		if rnd.IntN(2) == 0 {
			body = []byte(`[{"id": 5, "version": 3}, {"id": "b", "version": 2, "version": 4}]`)
		}
		for range rnd.IntN(3) {
			from := rnd.IntN(len(body))
			to := from + rnd.IntN(min(6, len(body)-from))
			body = slices.Concat(body[:from], []byte(pieces[rnd.IntN(len(pieces))]), body[to:])
		}
		want, wrong := read(d.List(ctx, "tower"))
		same, alsoWrong := read(d.Skim(ctx, "tower", func(string, string) bool { return false }))
		require.Equal(t, wrong, alsoWrong, "%s", body)
		require.Equal(t, want, same, "%s", body)
		if wrong != "" {
			continue
		}
		few, wrong := read(d.Skim(ctx, "tower", func(_, tag string) bool { return tag != `"4"` }))
		require.Empty(t, wrong, "%s", body)
		require.Len(t, few, len(want), "%s", body)
		for i, l := range few {
			require.Equal(t, want[i].ID, l.ID, "%s", body)
			require.Equal(t, want[i].Tag, l.Tag, "%s", body)
			if l.Attributes == nil {
				skimmed++
				continue
			}
			whole++
			require.Equal(t, want[i], l, "%s", body)
		}
	}
	require.Greater(t, skimmed, 1000)
	require.Greater(t, whole, 500)
}

// TestPassingFaults: reading is tried again while the fault may pass.
func TestPassingFaults(t *testing.T) {
	var n atomic.Int32
	d := open(t, lampDocument, func(w http.ResponseWriter, r *http.Request) {
		switch n.Add(1) {
		case 1:
			w.WriteHeader(503)
		case 2:
			panic(http.ErrAbortHandler) // the connection drops
		default:
			io.WriteString(w, `{"serial": "l-1"}`)
		}
	})
	_, err := d.Read(context.Background(), "lamp", "l-1")
	require.NoError(t, err)
	require.EqualValues(t, 3, n.Load())
	gone, err := openapi.New(openapi.Options{Document: []byte(lampDocument), Base: func(context.Context) (string,
		error) {
		return "http://127.0.0.1:1", nil
	}})
	require.NoError(t, err)
	_, err = gone.Create(context.Background(), "lamp", value.Map{}, "")
	passing, _ := driver.IsPassing(err)
	require.True(t, passing, err)
	require.ErrorContains(t, err, "the cloud cannot be reached")
	broken, err := openapi.New(openapi.Options{Document: []byte(lampDocument), Base: func(context.Context) (string,
		error) {
		return "", errors.New("no server")
	}})
	require.NoError(t, err)
	_, err = broken.Read(context.Background(), "lamp", "x")
	require.ErrorContains(t, err, "no server")
}

// FuzzDocument: no document makes the reader panic.
func FuzzDocument(f *testing.F) {
	f.Add(lampDocument)
	f.Add(string(medina.Document()))
	f.Add(string(harbour.Document))
	f.Fuzz(func(t *testing.T, body string) {
		described(t, []byte(body))
	})
}

// FuzzOverlay: neither does an Overlay.
func FuzzOverlay(f *testing.F) {
	f.Add(string(harbour.Overlay))
	f.Fuzz(func(t *testing.T, overlay string) {
		described(t, harbour.Document, []byte(overlay))
	})
}

func described(t *testing.T, body []byte, overlays ...[]byte) {
	if offer, _, err := openapi.Examine(body, overlays); err == nil {
		_, err = json.Marshal(offer)
		require.NoError(t, err)
	}
	d, err := openapi.New(openapi.Options{Document: body, Overlays: overlays})
	if err == nil {
		c, err := d.Describe(context.Background())
		require.NoError(t, err)
		_, err = json.Marshal(c.Names())
		require.NoError(t, err)
	}
}

// TestPlainRefusal: a line of text in the place of a problem is told.
func TestPlainRefusal(t *testing.T) {
	s := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(s.Close)
	s.Config.ErrorLog = log.New(io.Discard, "", 0)
	d, err := openapi.New(openapi.Options{Document: []byte(lampDocument), Base: func(context.Context) (string,
		error) {
		return strings.Replace(s.URL, "https", "http", 1), nil
	}})
	require.NoError(t, err)
	_, err = d.Create(context.Background(), "lamp", value.Map{}, "")
	require.ErrorContains(t, err, "Bad Request: Client sent an HTTP request to an HTTPS server")
}
