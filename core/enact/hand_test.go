package enact_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/seal"
	"kasbah/core/value"
	"kasbah/drivers/openapi"
)

// lamps is an API that somebody else may have written: it keeps what it is given, edits
// in one of three ways, and shows its tags in headers alone, or has none.
type lamps struct {
	mu     sync.Mutex
	things map[string]map[string]any
	rev    map[string]int
	next   int

	edit    string          // merge-patch, json-patch, put
	tags    bool            // it has some, in headers
	listed  bool            // and in a property of each lamp
	shifted bool            // the list is cut into pages by offset, and a page was cut while a deletion went on
	shown   bool            // the secret is shown
	hand    func(id string) // acts once, before the next write; nil for nothing
}

const lampsDocument = `
openapi: 3.1.0
info: {title: Lamps, version: "1"}
paths:
  /lamps: {get: {responses: {"200": {description: all}}}, post: {responses: {"201": {description: made}}}}
  /lamps/{id}:
    get: {responses: {"200": {description: one}}}
    METHOD: {requestBody: {content: {MEDIA: {}}}, responses: {"200": {description: edited}}}
    delete: {responses: {"204": {description: gone}}}
components:
  schemas:
    Lamp:
      type: object
      required: [name]
      x-kasbah: {type: lamp, path: /lamps, id: id, edit: EDIT, identify: [name], TAGS}
      properties:
        id: {type: string, readOnly: true}
        rev: {type: integer, readOnly: true}
        name: {type: string}
        power: {type: integer}
        kind: {type: string, x-kasbah: {fixed: true}}
        notes: {type: string}
        code: {type: string, writeOnly: true}
        tags: {type: object, additionalProperties: {type: string}}
`

func (l *lamps) document() []byte {
	method, media := "patch", "application/merge-patch+json"
	switch l.edit {
	case "json-patch":
		media = "application/json-patch+json"
	case "put":
		method, media = "put", "application/json"
	}
	tags := "tags: " + strconv.FormatBool(l.tags)
	if l.listed {
		tags = "tag: rev"
	}
	return []byte(strings.NewReplacer("METHOD", method, "MEDIA", media, "EDIT", l.edit, "TAGS",
		tags).Replace(lampsDocument))
}

func (l *lamps) shows(id string) map[string]any {
	out := maps.Clone(l.things[id])
	if !l.shown {
		delete(out, "code")
	}
	if l.listed {
		out["rev"] = l.rev[id]
	}
	return out
}

// byHand edits a lamp past everything.
func (l *lamps) byHand(id string, change func(map[string]any)) {
	change(l.things[id])
	l.rev[id]++
}

func (l *lamps) called(name string) string {
	l.mu.Lock()
	defer l.mu.Unlock()
	for id, x := range l.things {
		if x["name"] == name {
			return id
		}
	}
	return ""
}

func (l *lamps) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	l.mu.Lock()
	defer l.mu.Unlock()
	id := strings.TrimPrefix(strings.TrimPrefix(r.URL.Path, "/lamps"), "/")
	if hand := l.hand; hand != nil && r.Method != http.MethodGet {
		l.hand = nil
		hand(id)
	}
	if id == "" && r.Method == http.MethodGet {
		list := []any{}
		for i, id := range slices.Sorted(maps.Keys(l.things)) {
			if !l.shifted || i != 1 {
				list = append(list, l.shows(id))
			}
		}
		_ = json.NewEncoder(w).Encode(list)
		return
	}
	if id != "" && l.things[id] == nil {
		http.Error(w, `no such lamp`, http.StatusNotFound)
		return
	}
	tag := fmt.Sprintf(`"%d"`, l.rev[id])
	if is := r.Header.Get("If-Match"); l.tags && is != "" && is != tag {
		http.Error(w, "it was changed", http.StatusPreconditionFailed)
		return
	}
	body, _ := io.ReadAll(r.Body)
	status := http.StatusOK
	switch r.Method {
	case http.MethodPost:
		l.next++
		id = fmt.Sprintf("l-%d", l.next)
		l.rev[id] = 1
		var in map[string]any
		if json.Unmarshal(body, &in) != nil {
			panic(http.ErrAbortHandler)
		}
		in["id"] = id
		l.things[id], status = in, http.StatusCreated
	case http.MethodPut:
		var in map[string]any
		if json.Unmarshal(body, &in) != nil {
			panic(http.ErrAbortHandler)
		}
		in["id"] = id
		l.things[id] = in
		l.rev[id]++
	case http.MethodPatch:
		l.patch(id, body)
		l.rev[id]++
	case http.MethodDelete:
		delete(l.things, id)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if l.tags {
		w.Header().Set("ETag", fmt.Sprintf(`"%d"`, l.rev[id]))
	}
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(l.shows(id))
}

func (l *lamps) patch(id string, body []byte) {
	if bytes.HasPrefix(body, []byte("[")) { // RFC 6902, as far as it is sent
		var ops []struct {
			Op, Path string
			Value    any
		}
		if json.Unmarshal(body, &ops) != nil {
			panic(http.ErrAbortHandler)
		}
		for _, op := range ops {
			m, names := l.things[id], strings.Split(op.Path, "/")[1:]
			for _, n := range names[:len(names)-1] {
				m = m[n].(map[string]any)
			}
			if last := names[len(names)-1]; op.Op == "remove" {
				delete(m, last)
			} else {
				m[last] = op.Value
			}
		}
		return
	}
	var in map[string]any
	if json.Unmarshal(body, &in) != nil {
		panic(http.ErrAbortHandler)
	}
	merge(l.things[id], in)
}

func merge(m, in map[string]any) {
	for k, v := range in {
		below, isMap := v.(map[string]any)
		is, wasMap := m[k].(map[string]any)
		switch {
		case v == nil:
			delete(m, k)
		case isMap && wasMap:
			merge(is, below)
		default:
			m[k] = v
		}
	}
}

// lampCoast is an estate on such an API, with a lamp called west.
func lampCoast(t *testing.T, l *lamps, attrs ...string) *coast {
	l.things, l.rev = map[string]map[string]any{}, map[string]int{}
	c := newCoast(t, 1)
	server := httptest.NewServer(l)
	t.Cleanup(server.Close)
	d, err := openapi.New(openapi.Options{Document: l.document(), Base: func(context.Context) (string,
		error) {
		return server.URL, nil
	}})
	require.NoError(t, err)
	c.drv = d
	c.catalog, err = d.Describe(context.Background())
	require.NoError(t, err)
	c.lamp("west", attrs...)
	return c
}

func (c *coast) lamp(name string, attrs ...string) {
	c.put("lamp", name, "", append(attrs, "name", strconv.Quote(name))...)
	c.write()
}

// forms are the ways in which lamps are edited, with and without tags.
func forms(t *testing.T, test func(t *testing.T, l *lamps)) {
	for _, edit := range []string{"merge-patch", "json-patch", "put"} {
		t.Run(edit+" tags listed", func(t *testing.T) { test(t, &lamps{edit: edit, tags: true, listed: true}) })
		t.Run(edit+" tags in headers", func(t *testing.T) { test(t, &lamps{edit: edit, tags: true}) })
		t.Run(edit+" no tags", func(t *testing.T) { test(t, &lamps{edit: edit}) })
	}
}

// TestHandEditsStay: whatever somebody changes after a proposal was made is told and
// never overwritten, however the API is edited, with tags in headers alone or none.
func TestHandEditsStay(t *testing.T) {
	for _, kept := range []bool{false, true} {
		if kept && testing.Short() { // with the race detector, beside a run without
			continue
		}
		forms(t, func(t *testing.T, l *lamps) {
			for _, test := range []struct {
				name string
				x    struct {
					before, after []string // what is declared
					drop          bool
					by            map[string]any // what somebody sets meanwhile
					says          string
				}
			}{
				{"what was enacted", struct {
					before, after []string // what is declared
					drop          bool
					by            map[string]any // what somebody sets meanwhile
					says          string
				}{before: []string{"power", "1"}, after: []string{"power", "2"},
					by: map[string]any{"power": 9}, says: "power"}},
				{"beside what changes", struct {
					before, after []string // what is declared
					drop          bool
					by            map[string]any // what somebody sets meanwhile
					says          string
				}{before: []string{"power", "1", "notes", `"a"`},
					after: []string{"power", "2", "notes", `"a"`}, by: map[string]any{"notes": "mine"}, says: "notes"}},
				{"what is declared the first time", struct {
					before, after []string // what is declared
					drop          bool
					by            map[string]any // what somebody sets meanwhile
					says          string
				}{after: []string{"notes", `"ours"`},
					by: map[string]any{"notes": "mine"}, says: "notes"}},
				{"what is to be dropped", struct {
					before, after []string // what is declared
					drop          bool
					by            map[string]any // what somebody sets meanwhile
					says          string
				}{before: []string{"power", "1"}, drop: true,
					by: map[string]any{"power": 9}, says: "power"}},
				{"undeclared, of what is dropped", struct {
					before, after []string // what is declared
					drop          bool
					by            map[string]any // what somebody sets meanwhile
					says          string
				}{before: []string{"power", "1"}, drop: true,
					by: map[string]any{"notes": "mine"}, says: "notes"}},
				{"the old half of a swap", struct {
					before, after []string // what is declared
					drop          bool
					by            map[string]any // what somebody sets meanwhile
					says          string
				}{before: []string{"kind", `"old"`, "care",
					`care(swap = "create-first")`}, after: []string{"kind", `"new"`, "care",
					`care(swap = "create-first")`}, by: map[string]any{"notes": "mine"}, says: "notes"}},
			} {
				t.Run(fmt.Sprintf("%s kept %v", test.name, kept), func(t *testing.T) {
					c := lampCoast(t, l, test.x.before...)
					c.enact(c.propose(false))
					if c.lamp("west", test.x.after...); test.x.drop {
						delete(c.things, "west")
						c.write()
					}
					p := c.propose(false)
					id := l.called("west")
					edit := func(string) { l.byHand(id, func(m map[string]any) { maps.Copy(m, test.x.by) }) }
					if l.mu.Lock(); kept {
						edit("")
					} else if l.hand = edit; !l.tags { // right before the call nothing else can be seen
						l.hand = nil
						edit("")
					}
					l.mu.Unlock()
					o := c.options("run", c.drv, c.store)
					o.JudgeLive = kept
					r, err := enact.Enact(context.Background(), p, o)
					var told string
					if err != nil {
						told = err.Error()
					} else {
						require.Len(t, r.Failures, 1)
						told = r.Failures[0].Message
					}
					require.Contains(t, told, test.x.says)
					require.Contains(t, told, "propose again")
					for k, v := range test.x.by {
						require.EqualValues(t, v, l.things[id][k], "the hand edit stays")
					}
				})
			}
		})
	}
}

// TestOthersOwnWhatIsLeft: what care leaves to others is neither reset by an edit of
// the rest nor counted as a hand edit.
func TestOthersOwnWhatIsLeft(t *testing.T) {
	forms(t, func(t *testing.T, l *lamps) {
		care := `care(leave = ["notes", "tags.seen"])`
		c := lampCoast(t, l, "power", "1", "notes", `"first"`, "tags", `{"own": "a", "seen": "0"}`, "care", care)
		c.enact(c.propose(false))
		id := l.called("west")
		others := func(n string) {
			l.byHand(id, func(m map[string]any) {
				m["notes"] = "by others " + n
				m["tags"].(map[string]any)["seen"] = n
			})
		}
		others("1")
		require.Zero(t, c.propose(false).Counts.Changing())
		c.lamp("west", "power", "2", "notes", `"first"`, "tags", `{"own": "b", "seen": "0"}`, "care", care)
		p := c.propose(false)
		others("2")
		o := c.options("run", c.drv, c.store)
		o.JudgeLive = true
		l.hand = func(string) { others("3") }
		if !l.tags {
			l.hand = nil
			others("3")
		}
		r, err := enact.Enact(context.Background(), p, o)
		require.NoError(t, err)
		require.Empty(t, r.Failures)
		require.Equal(t, map[string]any{"own": "b", "seen": "3"}, l.things[id]["tags"])
		require.Equal(t, "by others 3", l.things[id]["notes"])
		require.EqualValues(t, 2, l.things[id]["power"])
		require.Zero(t, c.propose(false).Counts.Changing())
	})
}

// TestGoneIsConfirmed: a thing that a list does not show is looked for by its id before
// another one is made.
func TestGoneIsConfirmed(t *testing.T) {
	l := &lamps{edit: "merge-patch"}
	c := lampCoast(t, l)
	c.lamp("north")
	c.lamp("east")
	c.enact(c.propose(false))
	l.shifted = true
	require.Zero(t, c.propose(false).Counts.Changing(), "it is there")
	l.shifted = false
	delete(l.things, l.called("north"))
	p := c.propose(false)
	require.Equal(t, propose.Counts{New: 1, Same: 2}, p.Counts)
}

// TestOfflineLooksFirst: a run whose proposal compared with the record alone overwrites
// no hand edit, whether or not there are tags.
func TestOfflineLooksFirst(t *testing.T) {
	forms(t, func(t *testing.T, l *lamps) {
		c := lampCoast(t, l, "power", "1")
		c.enact(c.propose(false))
		l.byHand(l.called("west"), func(m map[string]any) { m["power"] = 9 })
		c.lamp("west", "power", "2")
		c.offline = true
		r, err := enact.Enact(context.Background(), c.propose(false), c.options("run", c.drv, c.store))
		require.NoError(t, err)
		require.Len(t, r.Failures, 1)
		require.Contains(t, r.Failures[0].Message, "power was changed from 1 to 9 since it was read")
		require.EqualValues(t, 9, l.things[l.called("west")]["power"])
	})
}

// TestRecoveryLooksFirst: a call of a dead run is not made where somebody has edited the
// thing since, and is where it is as the run saw it.
func TestRecoveryLooksFirst(t *testing.T) {
	ctx := context.Background()
	forms(t, func(t *testing.T, l *lamps) {
		for _, call := range []string{"update", "delete"} {
			for _, edited := range []bool{false, true} {
				t.Run(fmt.Sprintf("%s edited %v", call, edited), func(t *testing.T) {
					c := lampCoast(t, l, "power", "1")
					c.enact(c.propose(false))
					id := l.called("west")
					r, err := c.ledger().Begin(ctx, ledger.BeginOptions{ID: "dead"})
					require.NoError(t, err)
					was, err := r.Record("medina.lamp/west")
					require.NoError(t, err)
					in := &ledger.Intent{ID: "1", Address: was.Address, Type: was.Type, Action: "edit", Call: call,
						Key: "k", Thing: id, Tag: was.Tag, Before: was.Live}
					if call == "update" {
						plan := *was
						plan.Inputs = value.Attributes{"name": "west", "power": int64(2)}
						in.From, in.To, in.Inputs, in.Plan = value.Attributes{"power": int64(1)},
							value.Attributes{"power": int64(2)}, plan.Inputs, &plan
					}
					require.NoError(t, r.Append(ctx, ledger.Line{Kind: ledger.KindIntent, Intent: in}))
					require.NoError(t, c.ledger().Break(ctx, "dead", "it was killed", ""))
					if edited {
						l.byHand(id, func(m map[string]any) { m["power"] = 9 })
					}
					_, err = enact.Recover(ctx, map[string]ledger.Scope{"shore": ledger.Whole}, nil,
						c.options("recovery", c.drv, c.store))
					require.NoError(t, err)
					switch {
					case edited:
						require.EqualValues(t, 9, l.things[id]["power"], "the hand edit stays")
					case call == "update":
						require.EqualValues(t, 2, l.things[id]["power"])
					default:
						require.Nil(t, l.things[id])
					}
				})
			}
		}
	})
}

// TestRenewedSecret: a secret that has another value is sent in every way of editing,
// and what was killed on the way goes on.
func TestRenewedSecret(t *testing.T) {
	forms(t, func(t *testing.T, l *lamps) {
		for _, shown := range []bool{false, true} { // a secret that an API shows is not heard
			t.Run(fmt.Sprintf("shown %v", shown), func(t *testing.T) {
				l.shown = shown
				id, err := age.GenerateX25519Identity()
				require.NoError(t, err)
				e := seal.NewEstate()
				box, err := seal.NewBox(e.Pin(), []string{id.Recipient().String()}, func() ([]age.Identity,
					error) {
					return []age.Identity{id}, nil
				})
				require.NoError(t, err)
				box.Fetch = func(context.Context) (seal.Estate, error) { return e, nil }
				word := "first-word"
				c := lampCoast(t, l, "code", `secret("lamp_code")`, "power", "1")
				c.box, c.secret = box, func(string) (string, error) { return word, nil }
				c.enact(c.propose(false))
				is := l.called("west")
				require.Equal(t, "first-word", l.things[is]["code"])
				require.Zero(t, c.propose(false).Counts.Changing())

				word = "second-word"
				p := c.propose(false)
				require.Equal(t, 1, p.Counts.Edit)
				if l.listed { // which alone tells of it
					l.byHand(is, func(m map[string]any) { m["code"] = "by-hand" })
					r, err := enact.Enact(context.Background(), p, c.options("run", c.drv, c.store))
					require.NoError(t, err)
					require.Len(t, r.Failures, 1)
					require.Contains(t, r.Failures[0].Message,
						"does not show, and it may be code; nothing was overwritten")
					require.Equal(t, "by-hand", l.things[is]["code"])
					p = c.propose(false)
				}
				c.enact(p)
				require.Equal(t, "second-word", l.things[is]["code"])
				require.Zero(t, c.propose(false).Counts.Changing())

				c.lamp("west", "code", `secret("lamp_code")`, "power", "2")
				c.enact(c.propose(false))
				require.Equal(t, "second-word", l.things[is]["code"], "an edit beside it leaves it")
			})
		}
	})
}
