package openapi

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// buoys is an API whose feeds are switched by actions, whose marks are parts of a chart that
// is replaced as a whole, and whose ropes nobody can read one by one.
type buoys struct {
	*httptest.Server
	mu    sync.Mutex
	feed  value.Map
	chart value.Map
	tag   int
	ropes []any
	asked []string
}

const buoysDocument = `openapi: 3.1.0
info: {title: buoys, version: "1"}
x-kasbah:
  headers: {X-Tide: {setting: tide}}
  rehearse: {query: {dry: "yes"}}
paths:
  /feeds:
    x-kasbah: {type: feed, identify: [name], actions: {on: {"true": "POST /feeds/{id}/on", "false": "POST /feeds/{id}/off"}}, properties: {colour: {same: lower}, hours: {set: true}}}
    get: {responses: {"200": {description: "", content: {application/json: {schema: {type: array, items: {$ref: "#/components/schemas/feed"}}}}}}}
    post: {requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/feed"}}}}, responses: {"201": {description: ""}}}
  /feeds/{id}:
    get: {responses: {"200": {description: "", content: {application/json: {schema: {$ref: "#/components/schemas/feed"}}}}}}
    patch: {requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/feed"}}}}, responses: {"200": {description: ""}}}
  /chart:
    get: {responses: {"200": {description: ""}}}
    put: {responses: {"200": {description: ""}}}
  /ropes:
    x-kasbah: {type: rope, read: list, edit: none}
    get: {responses: {"200": {description: "", content: {application/json: {schema: {type: array, items: {$ref: "#/components/schemas/rope"}}}}}}}
    post: {requestBody: {content: {application/json: {schema: {$ref: "#/components/schemas/rope"}}}}, responses: {"201": {description: ""}}}
  /ropes/{id}:
    delete: {responses: {"204": {description: ""}}}
components:
  schemas:
    feed: {type: object, required: [name], properties: {id: {type: string, readOnly: true}, name: {type: string}, colour: {type: string}, hours: {type: array, items: {type: integer}}, on: {type: boolean, readOnly: true}}}
    rope: {type: object, properties: {id: {type: string, readOnly: true}, length: {type: integer}}}
    mark:
      type: object
      x-kasbah: {type: mark, in-whole: {path: /chart, at: layers.0.marks, key: [name]}}
      required: [name, depth]
      properties: {name: {type: string}, depth: {type: integer}, seen: {type: integer, readOnly: true}}
`

func newBuoys(t *testing.T) (*buoys, *Driver) {
	b := &buoys{chart: value.Map{"scale": int64(5),
		"layers": []any{value.Map{"marks": []any{value.Map{"name": "theirs", "depth": int64(3), "seen": int64(9)}}}}}}
	b.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.asked = append(b.asked, r.Method+" "+r.URL.RequestURI())
		if r.Header.Get("X-Tide") != "high" {
			w.WriteHeader(http.StatusForbidden)
			return
		}
		var body value.Map
		_ = json.NewDecoder(r.Body).Decode(&body) // some have none
		body, _ = must2(value.Normal(map[string]any(body))).(map[string]any)
		say := func(status int, v any) {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(status)
			_, _ = w.Write(value.JSON(v))
		}
		dry := r.URL.Query().Get("dry") == "yes"
		switch path := r.Method + " " + r.URL.Path; {
		case path == "POST /feeds" && body["name"] == "bad":
			say(422, value.Map{"title": "no such name"})
		case path == "POST /feeds" && dry:
			say(200, value.Map{})
		case path == "POST /feeds":
			b.feed = body
			b.feed["id"], b.feed["on"] = "f-1", false
			say(201, b.feed)
		case path == "PATCH /feeds/f-1":
			for k, v := range body {
				b.feed[k] = v
			}
			say(200, b.feed)
		case path == "POST /feeds/f-1/on", path == "POST /feeds/f-1/off":
			b.feed["on"] = strings.HasSuffix(path, "on")
			w.WriteHeader(http.StatusNoContent)
		case path == "GET /feeds/f-1":
			shown := value.CloneMap(b.feed)
			shown["colour"] = strings.ToUpper(text(shown["colour"]))
			say(200, shown)
		case path == "GET /chart":
			w.Header().Set("ETag", `"`+strings.Repeat("x", b.tag+1)+`"`)
			say(200, b.chart)
		case path == "PUT /chart" && r.Header.Get("If-Match") != `"`+strings.Repeat("x", b.tag+1)+`"`:
			w.WriteHeader(http.StatusPreconditionFailed)
		case path == "PUT /chart":
			b.chart = body
			b.tag++
			say(200, b.chart)
		case path == "GET /ropes":
			say(200, b.ropes)
		case path == "POST /ropes":
			body["id"] = "r-1"
			b.ropes = append(b.ropes, body)
			say(201, body)
		case path == "DELETE /ropes/r-1":
			b.ropes = []any{}
			w.WriteHeader(http.StatusNoContent)
		default:
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	t.Cleanup(b.Close)
	d, err := New(Options{Document: []byte(buoysDocument), Settings: map[string]string{"tide": "high"},
		Base: func(context.Context) (string, error) { return b.URL, nil }})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return b, d
}

func must2(v any, err error) any {
	if err != nil {
		panic(err)
	}
	return v
}

// TestActions: what is switched by an action is no part of an edit, and what a server writes
// in another case or order is the same.
func TestActions(t *testing.T) {
	b, d := newBuoys(t)
	ctx := context.Background()
	feed := d.doc.catalog.Types["feed"]
	require.False(t, feed.Attribute("on").Output, "an action reaches it")
	inputs, faults := feed.Check(value.Map{"name": "west", "colour": "Red", "hours": []any{int64(9), int64(3)}})
	require.Empty(t, faults)
	live, err := d.Create(ctx, "feed", inputs, "")
	require.NoError(t, err)
	live, err = d.Update(ctx, "feed", live.ID, driver.Change{From: value.Map{"on": false, "hours": []any{}},
		To: value.Map{"on": true, "hours": []any{int64(4)}}}, "", "")
	require.NoError(t, err)
	require.Equal(t, true, live.Attributes["on"])
	require.Equal(t, "red", live.Attributes["colour"])
	require.Equal(t, []any{int64(4)}, live.Attributes["hours"])
	require.Contains(t, b.asked, "PATCH /feeds/f-1")
	require.Contains(t, b.asked, "POST /feeds/f-1/on")
	b.asked = nil
	_, err = d.Update(ctx, "feed", live.ID, driver.Change{From: value.Map{"on": true}, To: value.Map{"on": false}}, "",
		"")
	require.NoError(t, err)
	require.Equal(t, []string{"POST /feeds/f-1/off", "GET /feeds/f-1"}, b.asked, "nothing else is sent")
	_, err = d.Update(ctx, "feed", live.ID, driver.Change{To: value.Map{"on": "perhaps"}}, "", "")
	require.ErrorContains(t, err, "on cannot become perhaps: there are actions for false, true")
	require.Equal(t, driver.NotDone, driver.OutcomeOf(err))
}

// TestPartsOfAWhole: a part is changed and the rest of its whole stays as it is, also what
// somebody else changes at the same moment.
func TestPartsOfAWhole(t *testing.T) {
	b, d := newBuoys(t)
	ctx := context.Background()
	made, err := d.Create(ctx, "mark", value.Map{"name": "reef", "depth": int64(2)}, "")
	require.NoError(t, err)
	require.Equal(t, "reef", made.ID)
	_, err = d.Create(ctx, "mark", value.Map{"name": "theirs", "depth": int64(2)}, "")
	require.ErrorContains(t, err, "there is a mark with name already")
	require.Equal(t, driver.NotDone, driver.OutcomeOf(err))
	live, err := d.Update(ctx, "mark", "theirs", driver.Change{From: value.Map{"depth": int64(3)},
		To: value.Map{"depth": int64(4)}, All: value.Map{"name": "theirs", "depth": int64(4)}}, "", "")
	require.NoError(t, err)
	require.EqualValues(t, 4, live.Attributes["depth"])
	require.EqualValues(t, 9, live.Attributes["seen"], "what is not ours to say stays")
	require.EqualValues(t, 5, b.chart["scale"])
	require.IsType(t, []any{}, b.chart["layers"], "and its form")
	var wg sync.WaitGroup
	for _, name := range []string{"a", "b", "c", "d", "e", "f"} {
		wg.Go(func() {
			_, err := d.Create(ctx, "mark", value.Map{"name": name, "depth": int64(1)}, "")
			require.NoError(t, err)
		})
	}
	wg.Wait()
	n := 0
	for _, err := range d.List(ctx, "mark") {
		require.NoError(t, err)
		n++
	}
	require.Equal(t, 8, n, "none is lost where several are made at once")
	require.NoError(t, d.Delete(ctx, "mark", "reef", "", ""))
	require.ErrorIs(t, d.Delete(ctx, "mark", "reef", "", ""), driver.ErrGone)
	_, err = d.Read(ctx, "mark", "reef")
	require.ErrorIs(t, err, driver.ErrGone)
}

// TestReadFromTheList: what nothing reads one by one is read from its list.
func TestReadFromTheList(t *testing.T) {
	_, d := newBuoys(t)
	ctx := context.Background()
	made, err := d.Create(ctx, "rope", value.Map{"length": int64(7)}, "")
	require.NoError(t, err)
	live, err := d.Read(ctx, "rope", made.ID)
	require.NoError(t, err)
	require.EqualValues(t, 7, live.Attributes["length"])
	require.NoError(t, d.Delete(ctx, "rope", made.ID, "", ""))
	_, err = d.Read(ctx, "rope", made.ID)
	require.ErrorIs(t, err, driver.ErrGone)
}

// TestDryRuns: calls whose values are known are tried one by one, with no effect.
func TestDryRuns(t *testing.T) {
	b, d := newBuoys(t)
	can, together := d.Rehearsals()
	require.True(t, can)
	require.False(t, together)
	out, err := d.Rehearse(context.Background(), []driver.Call{
		{Do: "create", Type: "feed", Inputs: value.Map{"name": "west"}},
		{Do: "create", Type: "feed", Inputs: value.Map{"name": "bad"}},
		{Do: "create", Type: "feed", Inputs: value.Map{"name": driver.Made{Call: 0,
			Path: value.Path{value.Key("id")}}}},
		{Do: "create", Type: "mark", Inputs: value.Map{"name": "reef", "depth": int64(1)}},
	})
	require.NoError(t, err)
	require.True(t, out[0].Tried && out[0].Err == nil)
	require.ErrorContains(t, out[1].Err, "no such name")
	require.False(t, out[2].Tried || out[3].Tried)
	require.Nil(t, b.feed, "nothing was made")
	require.Equal(t, []string{"POST /feeds?dry=yes", "POST /feeds?dry=yes"}, b.asked)
}
