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
	b := &beacons{things: map[string]map[string]any{}, shown: func(l map[string]any, _ bool) map[string]any { return l }}
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
	p.file("kasbah.toml", strings.Replace(toml[:at], `wards = ["shore", "signal"]`, `wards = ["beacon"]`, 1)+fmt.Sprintf("[drivers.beacon]\nkind = \"openapi\"\nspec = \"beacon.json\"\napi = %q\n[env.trial]\n", b.URL))
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
			p := b.estate(t, beaconDocument(`, "token": {"type": "string", "readOnly": true, "x-kasbah": {"secret": true}}, "code": {"type": "string", "writeOnly": true}`, ""))
			p.file("beacon/beacon.star", "west = beacon.lamp(\"west\", label = \"west\")\nbeacon.lamp(\"east\", label = \"east\", code = west.token)\npublish(\"token\", west.token, secret = True)\n")
			out := p.must("enact", "-yes")
			require.Equal(t, "made-up-l-1", b.things["l-2"]["code"], "%s", out)
			for range 2 {
				out += p.must("propose")
				require.Contains(t, out, "Nothing to do")
				out += p.must("survey", "-exit-code")
			}
			p.file("beacon/beacon.star", "west = beacon.lamp(\"west\", label = \"west\")\nbeacon.lamp(\"east\", label = \"east\", code = west.token)\nbeacon.lamp(\"north\", label = \"north\", code = west.token)\npublish(\"token\", west.token, secret = True)\n")
			out += p.must("enact", "-yes")
			require.Equal(t, "made-up-l-1", b.things["l-3"]["code"], "a later run knows it still")
			out += p.must("ledger", "show", "-json") + p.must("published") + p.must("ledger", "log", "-full") + p.must("propose", "-json")
			require.NotContains(t, out, "made-up")
			require.Contains(t, p.must("ledger", "show", "beacon.lamp/west"), "(secret)")

			// where nothing is sealed, the proposal says so before anything is made
			open := &program{t: t, dir: t.TempDir()}
			open.file("beacon.json", p.read("beacon.json"))
			open.file("beacon/beacon.star", p.read("beacon/beacon.star"))
			open.file("kasbah.toml", fmt.Sprintf("estate = \"coast\"\nwards = [\"beacon\"]\n[drivers.beacon]\nkind = \"openapi\"\nspec = \"beacon.json\"\napi = %q\n[env.trial]\n", b.URL))
			before := b.made
			out, code := open.run("enact", "-yes")
			require.Equal(t, 5, code, out)
			require.Contains(t, out, "token")
			require.Equal(t, before, b.made)
		})
	}
}
