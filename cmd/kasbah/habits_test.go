package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// beacons is an API with habits that a test gives it.
type beacons struct {
	*httptest.Server
	mu     sync.Mutex
	things map[string]map[string]any
	made   int
	asked  []string                                                               // method and path of each request
	habit  func(w http.ResponseWriter, r *http.Request, body map[string]any) bool // answers instead, where it is true
	shown  func(thing map[string]any, created bool) map[string]any                // what is shown of a thing
}

func newBeacons(t *testing.T) *beacons {
	b := &beacons{things: map[string]map[string]any{}, shown: func(l map[string]any,
		_ bool) map[string]any {
		return l
	}}
	b.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.asked = append(b.asked, r.Method+" "+r.URL.RequestURI())
		var body map[string]any
		_ = json.NewDecoder(r.Body).Decode(&body)
		if b.habit != nil && b.habit(w, r, body) {
			return
		}
		b.answer(w, r, body)
	}))
	t.Cleanup(b.Close)
	return b
}

// labelled is the lamp with a label: which of two lamps is made first is not told by their ids.
func (b *beacons) labelled(label string) map[string]any {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, l := range b.things {
		if l["label"] == label {
			return l
		}
	}
	panic("no lamp is labelled " + label)
}

func (b *beacons) answer(w http.ResponseWriter, r *http.Request, body map[string]any) {
	w.Header().Set("Content-Type", "application/json")
	id := strings.TrimPrefix(r.URL.Path, "/lamps/")
	say := func(status int, v any) {
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(v)
	}
	switch {
	case r.Method == "GET" && r.URL.Path == "/lamps":
		list := []any{}
		for n := range b.made {
			if l := b.things[fmt.Sprintf("l-%d", n+1)]; l != nil {
				list = append(list, b.shown(l, false))
			}
		}
		say(200, list)
	case r.Method == "POST":
		b.made++
		body["id"] = fmt.Sprintf("l-%d", b.made)
		b.things[body["id"].(string)] = body
		say(201, b.shown(body, true))
	case b.things[id] == nil:
		say(404, map[string]any{"title": "there is no such lamp"})
	case r.Method == "PATCH":
		for k, v := range body {
			b.things[id][k] = v
		}
		say(200, b.shown(b.things[id], false))
	case r.Method == "DELETE":
		delete(b.things, id)
		w.WriteHeader(204)
	default:
		say(200, b.shown(b.things[id], false))
	}
}

// document describes lamps with more properties, and with more in x-kasbah.
func beaconDocument(properties, extension string) string {
	return `{"openapi": "3.1.0", "info": {"title": "beacons", "version": "1"}, "paths": {
"/lamps": {"get": {"responses": {"200": {"description": "", "content": {"application/json": {"schema": {"type": "array", "items": {"$ref": "#/components/schemas/lamp"}}}}}}},
  "post": {"requestBody": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/lamp"}}}}, "responses": {"201": {"description": ""}}}},
"/lamps/{id}": {"get": {"responses": {"200": {"description": ""}}}, "patch": {"requestBody": {"content": {"application/merge-patch+json": {"schema": {"$ref": "#/components/schemas/lamp"}}}}, "responses": {"200": {"description": ""}}}, "delete": {"responses": {"204": {"description": ""}}}}},
"components": {"schemas": {"lamp": {"type": "object", "x-kasbah": {"type": "lamp", "path": "/lamps", "id": "id"` + extension + `}, "required": ["label"], "properties": {
  "label": {"type": "string"}, "id": {"type": "string", "readOnly": true}` + properties + `}}}}}`
}

// estate is a sealed one on the API.
func (b *beacons) estate(t *testing.T, document string) *program {
	p := fort(t)
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, ".kasbah")))
	require.NoError(t, os.RemoveAll(filepath.Join(p.dir, "home", "kasbah", "seen")))
	p.file("beacon.json", document)
	toml := p.read("kasbah.toml")
	at := strings.Index(toml, "[drivers.medina]")
	p.file("kasbah.toml", strings.Replace(toml[:at], `wards = ["shore", "signal"]`, `wards = ["beacon"]`,
		1)+fmt.Sprintf("[drivers.beacon]\nkind = \"openapi\"\nspec = \"beacon.json\"\napi = %q\n[env.trial]\n", b.URL))
	return p
}

// TestMadeSecrets: a secret that the cloud makes, and shows once or always, is recorded
// sealed, used by others, published, and shown nowhere.
func TestMadeSecrets(t *testing.T) {
	for _, once := range []bool{true, false} {
		t.Run(fmt.Sprintf("once %v", once), func(t *testing.T) {
			b := newBeacons(t)
			b.shown = func(l map[string]any, created bool) map[string]any {
				out := map[string]any{}
				for k, v := range l {
					out[k] = v
				}
				if created || !once {
					out["token"] = "made-up-" + l["id"].(string)
				}
				delete(out, "code") // given, and never shown
				return out
			}
			p := b.estate(t,
				beaconDocument(`, "token": {"type": "string", "readOnly": true, "x-kasbah": {"secret": true}}, "code": {"type": "string", "writeOnly": true}`, ""))
			p.file("beacon/beacon.star", "west = beacon.lamp(\"west\", label = \"west\")\nbeacon.lamp(\"east\", "+
				"label = \"east\", code = west.token)\npublish(\"token\", west.token, secret = True)\n")
			out := p.must("enact", "-yes")
			require.Equal(t, "made-up-l-1", b.things["l-2"]["code"], "%s", out)
			for range 2 {
				out += p.must("propose")
				require.Contains(t, out, "Nothing to do")
				out += p.must("survey", "-exit-code")
			}
			p.file("beacon/beacon.star", "west = beacon.lamp(\"west\", label = \"west\")\nbeacon.lamp(\"east\", "+
				"label = \"east\", code = west.token)\nbeacon.lamp(\"north\", label = \"north\", code = "+
				"west.token)\npublish(\"token\", west.token, secret = True)\n")
			out += p.must("enact", "-yes")
			require.Equal(t, "made-up-l-1", b.things["l-3"]["code"], "a later run knows it still")
			out += p.must("ledger", "show", "-json") + p.must("published") + p.must("ledger", "log", "-full") +
				p.must("propose", "-json")
			require.NotContains(t, out, "made-up")
			require.Contains(t, p.must("ledger", "show", "beacon.lamp/west"), "(secret)")

			// where nothing is sealed, the proposal says so before anything is made
			open := &program{t: t, dir: t.TempDir()}
			open.file("beacon.json", p.read("beacon.json"))
			open.file("beacon/beacon.star", p.read("beacon/beacon.star"))
			open.file("kasbah.toml", fmt.Sprintf("estate = \"coast\"\nwards = [\"beacon\"]\n[drivers.beacon]\nkind = "+
				"\"openapi\"\nspec = \"beacon.json\"\napi = %q\n[env.trial]\n", b.URL))
			before := b.made
			out, code := open.run("enact", "-yes")
			require.Equal(t, 5, code, out)
			require.Contains(t, out, "token")
			require.Equal(t, before, b.made)
		})
	}
}

// TestEndlessList: a server that says for ever that there is more is believed until a page
// is empty, or comes again.
func TestEndlessList(t *testing.T) {
	for _, c := range []struct {
		name string
		past func(b *beacons) any
	}{
		{"an empty page", func(*beacons) any { return []any{} }},
		{"the same page", func(b *beacons) any { return []any{b.things["l-1"]} }},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := newBeacons(t)
			b.habit = func(w http.ResponseWriter, r *http.Request, _ map[string]any) bool {
				if r.Method != "GET" || r.URL.Path != "/lamps" {
					return false
				}
				page := 1
				_, _ = fmt.Sscan(r.URL.Query().Get("page"), &page)
				w.Header().Set("Link", fmt.Sprintf(`</lamps?page=%d>; rel="next"`, page+1))
				w.Header().Set("Content-Type", "application/json")
				if l := b.things[fmt.Sprintf("l-%d", page)]; l != nil {
					_ = json.NewEncoder(w).Encode([]any{l})
				} else {
					_ = json.NewEncoder(w).Encode(c.past(b))
				}
				return true
			}
			p := b.estate(t, beaconDocument("", ""))
			p.file("beacon/beacon.star", "[beacon.lamp(\"lamp-%d\" % i, label = \"lamp %d\" % i) for i in range(3)]\n")
			p.must("enact", "-yes", "-quiet")
			b.asked = nil
			require.Contains(t, p.must("survey", "-exit-code"), "3")
			require.Contains(t, p.must("propose"), "Nothing to do: all 3")
			require.Less(t, len(b.asked), 20, "%v", b.asked)
		})
	}
}

// TestQuietDeletion: a deletion that is accepted and says nothing more is followed by
// reading the thing until it is gone.
func TestQuietDeletion(t *testing.T) {
	b := newBeacons(t)
	going := 0
	b.habit = func(w http.ResponseWriter, r *http.Request, _ map[string]any) bool {
		id := strings.TrimPrefix(r.URL.Path, "/lamps/")
		switch {
		case r.Method == "DELETE" && b.things[id] != nil:
			going = 3
			w.WriteHeader(202)
			return true
		case going > 0:
			if going--; going == 0 {
				delete(b.things, "l-1")
			}
		}
		return false
	}
	p := b.estate(t, beaconDocument("", ""))
	p.file("beacon/beacon.star", "beacon.lamp(\"west\", label = \"west\")\n")
	p.must("enact", "-yes", "-quiet")
	p.file("beacon/beacon.star", "")
	require.Contains(t, p.must("enact", "-yes"), "1 done")
	require.Empty(t, b.things)
	require.Contains(t, p.must("propose"), "Nothing is declared and nothing is recorded")
}

// TestMediaTypes: things are made and edited in the media types that the document names.
func TestMediaTypes(t *testing.T) {
	for _, c := range []struct{ media, refuses string }{
		{"application/json", "application/merge-patch+json"},
		{"application/vnd.beacon.v2+json", "application/json"},
		{"application/merge-patch+json", "application/json"},
	} {
		t.Run(c.media, func(t *testing.T) {
			b := newBeacons(t)
			b.habit = func(w http.ResponseWriter, r *http.Request, _ map[string]any) bool {
				if (r.Method == "PATCH" || r.Method == "POST" && strings.Contains(c.media, "vnd")) &&
					r.Header.Get("Content-Type") != c.media {
					w.WriteHeader(http.StatusUnsupportedMediaType)
					return true
				}
				return false
			}
			document := strings.Replace(beaconDocument("", ""),
				`"patch": {"requestBody": {"content": {"application/merge-patch+json"`,
				`"patch": {"requestBody": {"content": {"`+c.media+`"`, 1)
			if strings.Contains(c.media, "vnd") {
				document = strings.Replace(document, `"post": {"requestBody": {"content": {"application/json"`,
					`"post": {"requestBody": {"content": {"`+c.media+`"`, 1)
			}
			p := b.estate(t, document)
			p.file("beacon/beacon.star", "beacon.lamp(\"west\", label = \"west\")\n")
			p.must("enact", "-yes", "-quiet")
			p.file("beacon/beacon.star", "beacon.lamp(\"west\", label = \"far west\")\n")
			p.must("enact", "-yes", "-quiet")
			require.Equal(t, "far west", b.things["l-1"]["label"])

			// an Overlay knows better
			p.file("over.yaml", fmt.Sprintf("overlay: 1.0.0\ninfo: {title: t, version: '1'}\nactions:\n- target: "+
				"$.components.schemas.lamp\n  update: {x-kasbah: {media: %s}}\n", c.refuses))
			p.file("kasbah.toml", strings.Replace(p.read("kasbah.toml"), "spec = \"beacon.json\"\n",
				"spec = \"beacon.json\"\noverlay = \"over.yaml\"\n", 1))
			p.file("beacon/beacon.star", "beacon.lamp(\"west\", label = \"near\")\n")
			out, code := p.run("enact", "-yes", "-quiet")
			require.Equal(t, 1, code)
			require.Contains(t, out, "415")
		})
	}
}

// TestNeverShown: an input that the API never shows is compared with the record, and an
// instant is one however it is written.
func TestNeverShown(t *testing.T) {
	b := newBeacons(t)
	b.shown = func(l map[string]any, _ bool) map[string]any {
		out := map[string]any{}
		for k, v := range l {
			out[k] = v
		}
		delete(out, "seed")
		if at, ok := l["lit_at"].(string); ok {
			parsed, err := time.Parse(time.RFC3339Nano, at)
			if err == nil {
				out["lit_at"] = parsed.In(time.FixedZone("", 3600)).Format("2006-01-02T15:04:05.000-07:00")
			}
		}
		return out
	}
	p := b.estate(t,
		beaconDocument(`, "seed": {"type": "string", "x-kasbah": {"shown": false}}, "lit_at": {"type": "string", "format": "date-time"}`, ""))
	star := func(seed, at string) {
		p.file("beacon/beacon.star", fmt.Sprintf("beacon.lamp(\"west\", label = \"west\", seed = %q, lit_at = %q)\n",
			seed, at))
	}
	star("one", "2031-01-02T03:04:05Z")
	p.must("enact", "-yes", "-quiet")
	for range 2 {
		require.Contains(t, p.must("propose"), "Nothing to do")
		require.NotContains(t, p.must("survey", "-exit-code"), "seed")
	}
	star("one", "2031-01-02T05:04:05+02:00")
	require.NotContains(t, p.must("propose"), "lit_at", "it is the same instant")
	star("two", "2031-01-02T03:04:06Z")
	out := p.must("propose")
	require.Regexp(t, `seed +two`, out)
	require.Contains(t, out, "lit_at")
	p.must("enact", "-yes", "-quiet")
	require.Equal(t, "two", b.things["l-1"]["seed"])
	require.Contains(t, p.must("propose"), "Nothing to do")
	b.mu.Lock()
	b.things["l-1"]["lit_at"] = "2032-01-01T00:00:00Z" // by hand
	b.mu.Unlock()
	out, code := p.run("survey", "-exit-code")
	require.Equal(t, 3, code, out)
	require.NotContains(t, out, "seed")
}

// TestLearned: the document of an API grows overnight, and so does what it shows. What the
// older document did not describe is learned, and no drift; what it described and was empty has
// moved; and what is declared and differs is drift all the same.
func TestLearned(t *testing.T) {
	b := newBeacons(t)
	serial := false
	b.shown = func(l map[string]any, _ bool) map[string]any {
		out := map[string]any{}
		for k, v := range l {
			out[k] = v
		}
		if serial {
			out["serial"] = "s-" + l["id"].(string)
		}
		return out
	}
	note := `, "note": {"type": "string", "readOnly": true}`
	p := b.estate(t, beaconDocument(note, ""))
	p.file("beacon/beacon.star", "for n in [\"west\", \"east\"]:\n    beacon.lamp(n, label = n)\n")
	p.must("enact", "-yes")
	serial = true
	require.Contains(t, p.must("survey", "-exit-code"), "2 matches", "the old document knows nothing of it")
	p.file("beacon.json", beaconDocument(note+`, "serial": {"type": "string", "readOnly": true}`, ""))
	out := p.must("survey", "-exit-code")
	require.Contains(t, out, "learned    beacon:beacon.lamp/east")
	require.Contains(t, out, "new in its driver: serial")
	require.Contains(t, out, "0 matches, 0 differs, 0 gone, 0 unchecked, 2 learned.")
	body := p.must("survey", "-json")
	require.NoError(t, validate([]byte(body)))
	require.Contains(t, body, `"verdict": "learned"`)
	require.Contains(t, p.must("propose"), "Nothing to do")

	b.labelled("west")["note"] = "worn"
	east := b.labelled("east")
	east["label"] = "south"
	out, code := p.run("survey", "-exit-code")
	require.Equal(t, 3, code, out)
	require.Contains(t, out, "also moved: note (not declared)")
	require.Contains(t, out, "label expected east, found south")
	east["label"] = "east"

	p.must("survey", "-record", "-why", "the new document")
	require.Contains(t, p.must("survey", "-exit-code"), "2 matches, 0 differs, 0 gone, 0 unchecked.")
	require.Contains(t, p.must("ledger", "log", "-last", "1", "-full"), "why  the new document")
}
