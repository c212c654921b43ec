package drivertest

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"sync"
	"time"
)

// Front is between a driver and an API and misbehaves, as gateways, sign-in pages,
// overloaded servers and lost connections do. It passes everything on until Misbehave
// is called.
type Front struct {
	API   http.Handler
	Plain bool // the API is one without idempotency keys
	Loose bool // the API is one without entity tags

	mu     sync.Mutex
	writes int
	at     int // the write to misbehave at
	trick  Trick
	struck string // path that the trick was played on; "" before
	key    string // idempotency key of that write
	times  int    // how often it was played
}

// Trick is a way to misbehave at a write and at what follows it.
type Trick struct {
	Name string
	// At plays it at the write. do has the API carry the write out.
	At func(w http.ResponseWriter, do func() *httptest.ResponseRecorder)
	// Again plays it at the next requests; it reports false when they are to pass. n
	// counts from 1. It may be nil.
	Again func(w http.ResponseWriter, r *http.Request, repeat bool, n int) bool
}

func answer(status int, media, body string, header ...string) func(http.ResponseWriter) {
	return func(w http.ResponseWriter) {
		w.Header().Set("Content-Type", media)
		for i := 0; i+1 < len(header); i += 2 {
			w.Header().Set(header[i], header[i+1])
		}
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body) // whoever asked may be gone
	}
}

func cut(w http.ResponseWriter) { panic(http.ErrAbortHandler) }

const page = "<html><body><form>Sign in to the harbour</form></body></html>"

// before answers without having the write carried out, after having had it done.
func before(say func(http.ResponseWriter)) func(http.ResponseWriter, func() *httptest.ResponseRecorder) {
	return func(w http.ResponseWriter, _ func() *httptest.ResponseRecorder) { say(w) }
}

func after(say func(http.ResponseWriter)) func(http.ResponseWriter, func() *httptest.ResponseRecorder) {
	return func(w http.ResponseWriter, do func() *httptest.ResponseRecorder) { do(); say(w) }
}

// late carries the write out only after it was answered.
func late(say func(http.ResponseWriter)) func(http.ResponseWriter, func() *httptest.ResponseRecorder) {
	return func(w http.ResponseWriter, do func() *httptest.ResponseRecorder) {
		time.AfterFunc(100*time.Millisecond, func() { do() })
		say(w)
	}
}

// reads plays at the reads that follow a write that was answered as it should be, so many times.
func reads(times int, say func(http.ResponseWriter)) func(http.ResponseWriter, *http.Request, bool, int) bool {
	return func(w http.ResponseWriter, r *http.Request, _ bool, n int) bool {
		if r.Method != http.MethodGet || n > times {
			return false
		}
		say(w)
		return true
	}
}

// repeats plays at repetitions of the write.
func repeats(times int, say func(http.ResponseWriter)) func(http.ResponseWriter, *http.Request, bool, int) bool {
	return func(w http.ResponseWriter, _ *http.Request, repeat bool, n int) bool {
		if !repeat || n > times {
			return false
		}
		say(w)
		return true
	}
}

// Tricks are the ways to misbehave.
func Tricks() []Trick {
	fault := answer(http.StatusInternalServerError, "text/plain", "something broke")
	busy := answer(http.StatusServiceUnavailable, "text/plain", "later")
	moved := answer(http.StatusFound, "text/html", page, "Location", "/sign-in")
	signIn := answer(http.StatusOK, "text/html; charset=utf-8", page)
	gateway := answer(http.StatusGatewayTimeout, "text/html", page)
	refused := answer(http.StatusForbidden, "application/json", `{"message": "not any more"}`)
	unknown := answer(http.StatusUnauthorized, "application/json", `{"message": "who is this?"}`)
	atIt := answer(http.StatusConflict, "application/json", `{"message": "a request with this key is in progress"}`)
	half := func(w http.ResponseWriter, do func() *httptest.ResponseRecorder) {
		rec := do()
		for k, v := range rec.Header() {
			w.Header()[k] = v
		}
		w.Header().Set("Content-Length", fmt.Sprint(rec.Body.Len()+10))
		w.WriteHeader(rec.Code)
		_, _ = w.Write(rec.Body.Bytes())
		cut(w)
	}
	rubbish := func(w http.ResponseWriter, do func() *httptest.ResponseRecorder) {
		rec := do()
		if l := rec.Header().Get("Location"); l != "" {
			w.Header().Set("Location", l)
		}
		answer(rec.Code, "application/json", `{"ok": tru`)(w)
	}
	pass := func(w http.ResponseWriter, do func() *httptest.ResponseRecorder) { copyTo(w, do()) }
	return []Trick{
		{Name: "500 before", At: before(fault)},
		{Name: "500 after", At: after(fault)},
		{Name: "500 and again", At: after(fault), Again: repeats(8, fault)},
		{Name: "503 before", At: before(busy)},
		{Name: "503 after", At: after(busy)},
		{Name: "429", At: before(answer(http.StatusTooManyRequests, "text/plain", "slowly", "Retry-After", "0"))},
		{Name: "cut before", At: before(cut)},
		{Name: "cut after", At: after(cut)},
		{Name: "half an answer", At: half},
		{Name: "rubbish", At: rubbish},
		{Name: "redirect before", At: before(moved)},
		{Name: "redirect after", At: after(moved), Again: repeats(8, moved)},
		{Name: "sign in before", At: before(signIn)},
		{Name: "sign in after", At: after(signIn)},
		{Name: "gateway gives up", At: late(gateway)},
		{Name: "in progress", At: after(cut), Again: repeats(2, atIt)},
		{Name: "401 on a repeat", At: after(cut), Again: repeats(8, unknown)},
		{Name: "403 on a repeat", At: before(cut), Again: repeats(8, refused)},
		{Name: "reads fail", At: pass, Again: reads(3, fault)},
		{Name: "reads are busy", At: pass, Again: reads(5, busy)},
		{Name: "reads are cut", At: pass, Again: reads(3, cut)},
		{Name: "reads find nothing", At: pass, Again: reads(2, answer(http.StatusNotFound, "application/json",
			`{"message": "no such thing"}`))},
		{Name: "reads lead away", At: pass, Again: reads(8, moved)},
	}
}

// Misbehave plays a trick at the n-th write from now on.
func (f *Front) Misbehave(n int, t Trick) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.writes, f.at, f.trick, f.struck, f.key, f.times = 0, n, t, "", "", 0
}

// Behave ends it. It reports whether the trick was played.
func (f *Front) Behave() (played bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	played = f.struck != ""
	f.at, f.struck = 0, ""
	return played
}

// ServeHTTP answers one request.
func (f *Front) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body)
	if err != nil {
		cut(w)
	}
	key := r.Header.Get("Idempotency-Key")
	if f.Plain {
		r.Header.Del("Idempotency-Key")
	}
	if f.Loose {
		r.Header.Del("If-Match")
	}
	do := func() *httptest.ResponseRecorder {
		rec := httptest.NewRecorder()
		again := r.Clone(r.Context())
		again.Body = io.NopCloser(bytes.NewReader(body))
		f.API.ServeHTTP(rec, again)
		if f.Loose {
			rec.Header().Del("ETag")
		}
		return rec
	}
	f.mu.Lock()
	write := r.Method != http.MethodGet && r.Method != http.MethodHead
	if write {
		f.writes++
	}
	trick, strikes := f.trick, f.at != 0 && write && f.writes == f.at
	repeat := f.struck != "" && write && f.struck == r.Method+" "+r.URL.Path && (f.key == key || f.Plain)
	follows := f.struck != "" && (repeat || !write)
	if strikes {
		f.struck, f.key = r.Method+" "+r.URL.Path, key
	}
	if follows {
		f.times++
	}
	n := f.times
	f.mu.Unlock()
	switch {
	case strikes:
		trick.At(w, do)
	case follows && trick.Again != nil && trick.Again(w, r, repeat, n):
	default:
		copyTo(w, do())
	}
}

func copyTo(w http.ResponseWriter, rec *httptest.ResponseRecorder) {
	for k, v := range rec.Header() {
		w.Header()[k] = v
	}
	w.WriteHeader(rec.Code)
	_, _ = w.Write(rec.Body.Bytes())
}

// WithoutTags takes a property out of every object of an answer, as an API does that
// shows tags in headers alone.
func WithoutTags(h http.Handler, property string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		rec := httptest.NewRecorder()
		h.ServeHTTP(rec, r)
		var v any
		if json.Unmarshal(rec.Body.Bytes(), &v) == nil {
			strip(v, property)
			if out, err := json.Marshal(v); err == nil {
				rec.Body = bytes.NewBuffer(out)
				rec.Header().Del("Content-Length")
			}
		}
		copyTo(w, rec)
	})
}

func strip(v any, property string) {
	switch v := v.(type) {
	case []any:
		for _, e := range v {
			strip(e, property)
		}
	case map[string]any:
		delete(v, property)
		for _, e := range v {
			strip(e, property)
		}
	}
}
