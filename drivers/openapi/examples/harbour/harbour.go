// Package harbour is an HTTP API with habits of its own, written by hand: paths
// that nest, things named by their callers, jobs and states to ask about, cursors,
// offsets and numbered pages, no entity tags, no idempotency keys. harbour.openapi.yaml
// is its document as its owner would write it, and harbour.overlay.yaml adds what
// Kasbah needs to know; nothing in here knows of Kasbah.
package harbour

import (
	_ "embed" // the documents
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// Document describes the API (OpenAPI 3.0).
//
//go:embed harbour.openapi.yaml
var Document []byte

// Overlay adds the x-kasbah extensions to Document.
//
//go:embed harbour.overlay.yaml
var Overlay []byte

// Key is what X-Harbour-Key must say.
const Key = "lantern"

type object = map[string]any

// API holds ports with docks with cranes, and pilots.
type API struct {
	// Building is how long docks and cranes take to be built and taken down.
	Building time.Duration

	mu     sync.Mutex
	n      int
	ports  []object
	docks  []object
	cranes []object
	pilots []object
	jobs   map[string]object
}

// Handler answers requests below /api/v2.
func (a *API) Handler() http.Handler {
	a.jobs = map[string]object{}
	r := chi.NewRouter()
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			if q.Header.Get("X-Harbour-Key") != Key {
				refuse(w, 401, "who are you?")
				return
			}
			a.mu.Lock()
			defer a.mu.Unlock()
			next.ServeHTTP(w, q)
		})
	})
	r.Route("/api/v2", func(r chi.Router) {
		r.Get("/ports", a.listPorts)
		r.Get("/ports/{code}", func(w http.ResponseWriter, q *http.Request) {
			show(w,
				find(a.ports, "code", param(q, "code")))
		})
		r.Put("/ports/{code}", a.putPort)
		r.Delete("/ports/{code}", a.deletePort)
		r.Get("/ports/{port_code}/docks", a.listDocks)
		r.Post("/ports/{port_code}/docks", a.createDock)
		r.Get("/ports/{port_code}/docks/{number}", func(w http.ResponseWriter, q *http.Request) {
			show(w,
				wrapped(a.dock(q)))
		})
		r.Patch("/ports/{port_code}/docks/{number}", a.patchDock)
		r.Delete("/ports/{port_code}/docks/{number}", a.deleteDock)
		r.Get("/ports/{port_code}/docks/{number}/cranes", a.listCranes)
		r.Post("/ports/{port_code}/docks/{number}/cranes", a.createCrane)
		r.Get("/cranes/{serial}", func(w http.ResponseWriter, q *http.Request) {
			show(w, find(a.cranes, "serial",
				param(q, "serial")))
		})
		r.Delete("/cranes/{serial}", a.deleteCrane)
		r.Get("/jobs/{id}", a.job)
		r.Get("/pilots", a.listPilots)
		r.Post("/pilots", a.createPilot)
		r.Get("/pilots/{id}", func(w http.ResponseWriter, q *http.Request) {
			show(w,
				find(a.pilots, "id", param(q, "id")))
		})
		r.Put("/pilots/{id}", a.putPilot)
		r.Delete("/pilots/{id}", func(w http.ResponseWriter, q *http.Request) {
			remove(w, &a.pilots, find(a.pilots, "id", param(q, "id")))
		})
	})
	return r
}

func param(q *http.Request, name string) string { return chi.URLParam(q, name) }

// find is the first thing of a list in which something stands.
func find(list []object, name, is string) object {
	for _, x := range list {
		if fmt.Sprint(x[name]) == is {
			return x
		}
	}
	return nil
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v) // a caller that is gone misses nothing
}

func show(w http.ResponseWriter, x object) {
	if x == nil {
		refuse(w, 404, "no such thing")
		return
	}
	answer(w, 200, x)
}

// refuse answers in the API's own form; what is wrong with fields follows as
// pairs of a name and a reason.
func refuse(w http.ResponseWriter, status int, words string, fields ...string) {
	list := []object{}
	for i := 0; i+1 < len(fields); i += 2 {
		list = append(list, object{"name": fields[i], "reason": fields[i+1]})
	}
	answer(w, status, object{"fault": object{"text": words, "fields": list}})
}

func body(w http.ResponseWriter, q *http.Request) (object, bool) {
	var in object
	if err := json.NewDecoder(q.Body).Decode(&in); err != nil {
		refuse(w, 400, "the body is not a JSON object: "+err.Error())
		return nil, false
	}
	return in, true
}

func remove(w http.ResponseWriter, list *[]object, x object) {
	if x == nil {
		refuse(w, 404, "no such thing")
		return
	}
	*list = slices.DeleteFunc(*list, func(y object) bool { return fmt.Sprintf("%p", x) == fmt.Sprintf("%p", y) })
	w.WriteHeader(204)
}

// unknown names a field that a thing does not have.
func unknown(in object, fields ...string) string {
	for k := range in {
		if !slices.Contains(fields, k) {
			return k
		}
	}
	return ""
}

// listPorts has numbered pages.
func (a *API) listPorts(w http.ResponseWriter, q *http.Request) {
	page, _ := strconv.Atoi(q.URL.Query().Get("page"))
	answer(w, 200, object{"ports": slice(a.ports, (max(page, 1)-1)*3, 3), "pages": (len(a.ports) + 2) / 3})
}

func slice(list []object, from, n int) []object {
	from = min(max(from, 0), len(list))
	return append([]object{}, list[from:min(from+n, len(list))]...)
}

// putPort makes or replaces a port, which its caller names.
func (a *API) putPort(w http.ResponseWriter, q *http.Request) {
	in, ok := body(w, q)
	if !ok {
		return
	}
	code := param(q, "code")
	if k := unknown(in, "code", "title", "depth", "lights"); k != "" {
		refuse(w, 422, "a port has no "+k, k, "not a field of a port")
		return
	}
	if d, ok := in["depth"].(float64); !ok || d > 40 {
		refuse(w, 422, "no port is as deep as that", "depth", "must be 40 at most")
		return
	}
	in["code"] = code
	if old := find(a.ports, "code", code); old != nil {
		if q.Header.Get("If-None-Match") == "*" {
			refuse(w, 412, "there is such a port")
			return
		}
		clear(old)
		for k, v := range in {
			old[k] = v
		}
		answer(w, 200, old)
		return
	}
	a.ports = append(a.ports, in)
	answer(w, 201, in)
}

func (a *API) deletePort(w http.ResponseWriter, q *http.Request) {
	if find(a.docks, "port_code", param(q, "code")) != nil {
		refuse(w, 409, "port "+param(q, "code")+" has docks")
		return
	}
	remove(w, &a.ports, find(a.ports, "code", param(q, "code")))
}

func wrapped(dock object) object {
	if dock == nil {
		return nil
	}
	return object{"dock": dock}
}

func (a *API) dock(q *http.Request) object {
	for _, d := range a.docks {
		if d["port_code"] == param(q, "port_code") && fmt.Sprint(d["number"]) == param(q, "number") {
			return d
		}
	}
	return nil
}

// listDocks has cursors.
func (a *API) listDocks(w http.ResponseWriter, q *http.Request) {
	if find(a.ports, "code", param(q, "port_code")) == nil {
		refuse(w, 404, "no such port")
		return
	}
	var here []object
	for _, d := range a.docks {
		if after, _ := strconv.Atoi(strings.TrimPrefix(q.URL.Query().Get("from"), "after-")); d["port_code"] == param(q,
			"port_code") && d["number"].(int) > after {
			here = append(here, d)
		}
	}
	out := object{"data": object{"docks": slice(here, 0, 2)}, "meta": object{}}
	if len(here) > 2 {
		out["meta"] = object{"more": fmt.Sprintf("after-%d", here[1]["number"])}
	}
	answer(w, 200, out)
}

// createDock answers at once; the dock says itself when it can be used.
func (a *API) createDock(w http.ResponseWriter, q *http.Request) {
	in, ok := body(w, q)
	if !ok {
		return
	}
	dock, ok := in["dock"].(map[string]any)
	if k := unknown(dock, "label", "length", "owner"); !ok || k != "" {
		refuse(w, 422, "that is not a dock", k, "not a field of a dock")
		return
	}
	if find(a.ports, "code", param(q, "port_code")) == nil {
		refuse(w, 404, "no such port")
		return
	}
	if n, ok := dock["length"].(float64); !ok || n > 400 {
		refuse(w, 422, "no ship is as long as that", "length", "must be 400 at most")
		return
	}
	a.n++
	dock["number"], dock["port_code"], dock["state"] = a.n, param(q, "port_code"), object{"phase": "building"}
	a.docks = append(a.docks, dock)
	end := object{"phase": "open"}
	if dock["label"] == "sinking" {
		end = object{"phase": "sunk", "why": "the ground is too soft"}
	}
	a.later(func() { dock["state"] = end })
	answer(w, 201, wrapped(dock))
}

// later does something when building is over.
func (a *API) later(f func()) {
	time.AfterFunc(a.Building, func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		f()
	})
}

// patchDock takes a JSON Patch (RFC 6902) of whole fields.
func (a *API) patchDock(w http.ResponseWriter, q *http.Request) {
	dock := a.dock(q)
	if dock == nil {
		refuse(w, 404, "no such dock")
		return
	}
	var ops []struct {
		Op, Path string
		Value    any
	}
	if q.Header.Get("Content-Type") != "application/json-patch+json" || json.NewDecoder(q.Body).Decode(&ops) != nil {
		refuse(w, 415, "a dock is changed by a JSON Patch")
		return
	}
	for _, op := range ops {
		parts := strings.Split(op.Path, "/")
		at, name := dock, parts[len(parts)-1]
		for _, p := range parts[1 : len(parts)-1] {
			at, _ = at[p].(map[string]any)
		}
		_, there := at[name]
		switch {
		case at == nil || op.Op != "add" && !there:
			refuse(w, 409, "there is nothing at "+op.Path, strings.Join(parts[1:], "."), "is not there")
			return
		case op.Op == "remove":
			delete(at, name)
		default:
			at[name] = op.Value
		}
	}
	answer(w, 200, wrapped(dock))
}

// deleteDock answers at once as well; the dock is there until it is taken down.
func (a *API) deleteDock(w http.ResponseWriter, q *http.Request) {
	dock := a.dock(q)
	if dock == nil {
		refuse(w, 404, "no such dock")
		return
	}
	if find(a.cranes, "dock", fmt.Sprint(dock["number"])) != nil {
		refuse(w, 409, "the dock has cranes")
		return
	}
	dock["state"] = object{"phase": "closing"}
	a.later(func() {
		a.docks = slices.DeleteFunc(a.docks, func(x object) bool { return x["number"] == dock["number"] })
	})
	w.WriteHeader(202)
}

func (a *API) listCranes(w http.ResponseWriter, q *http.Request) {
	here := []object{}
	for _, c := range a.cranes {
		if fmt.Sprint(c["dock"]) == param(q, "number") {
			here = append(here, c)
		}
	}
	answer(w, 200, here)
}

// createCrane leads to a job.
func (a *API) createCrane(w http.ResponseWriter, q *http.Request) {
	in, ok := body(w, q)
	if !ok {
		return
	}
	dock := a.dock(q)
	if dock == nil {
		refuse(w, 404, "no such dock")
		return
	}
	if k := unknown(in, "port", "dock", "tons"); k != "" {
		refuse(w, 422, "a crane has no "+k, k, "not a field of a crane")
		return
	}
	a.n++
	id := fmt.Sprintf("job-%d", a.n)
	job := object{"state": "running"}
	a.jobs[id] = job
	serial := fmt.Sprintf("c-%d", a.n)
	a.later(func() {
		if tons, _ := in["tons"].(float64); tons > 90 {
			job["state"], job["why"] = "failed", object{"text": "nothing lifts as much as that"}
			return
		}
		job["state"], job["crane"] = "done", serial
		a.cranes = append(a.cranes, object{"serial": serial, "dock": dock["number"], "port": dock["port_code"],
			"tons": in["tons"]})
	})
	answer(w, 202, object{"job": "/api/v2/jobs/" + id})
}

func (a *API) job(w http.ResponseWriter, q *http.Request) { show(w, a.jobs[param(q, "id")]) }

func (a *API) deleteCrane(w http.ResponseWriter, q *http.Request) {
	remove(w, &a.cranes, find(a.cranes, "serial", param(q, "serial")))
}

// listPilots has offsets.
func (a *API) listPilots(w http.ResponseWriter, q *http.Request) {
	skip, _ := strconv.Atoi(q.URL.Query().Get("skip"))
	n, _ := strconv.Atoi(q.URL.Query().Get("count"))
	answer(w, 200, object{"total": len(a.pilots), "pilots": slice(a.pilots, skip, min(max(n, 1), 5))})
}

func (a *API) createPilot(w http.ResponseWriter, q *http.Request) {
	in, ok := body(w, q)
	if !ok {
		return
	}
	pilot := object{}
	if !a.pilot(w, pilot, in) {
		return
	}
	a.n++
	pilot["id"], pilot["since"] = a.n, "2026"
	a.pilots = append(a.pilots, pilot)
	answer(w, 201, pilot)
}

// pilot takes over what a pilot may be; the code is kept and never shown.
func (a *API) pilot(w http.ResponseWriter, pilot, in object) bool {
	if in["code"] == nil {
		refuse(w, 422, "a pilot needs a code", "code", "is missing")
		return false
	}
	if k := unknown(in, "name", "contact", "code", "grades"); k != "" {
		refuse(w, 422, "a pilot has no "+k, k, "not a field of a pilot")
		return false
	}
	for _, k := range []string{"name", "contact", "grades"} {
		delete(pilot, k)
		if v, ok := in[k]; ok {
			pilot[k] = v
		}
	}
	return true
}

func (a *API) putPilot(w http.ResponseWriter, q *http.Request) {
	pilot := find(a.pilots, "id", param(q, "id"))
	in, ok := body(w, q)
	if !ok || pilot == nil {
		if ok {
			refuse(w, 404, "no such pilot")
		}
		return
	}
	if a.pilot(w, pilot, in) {
		answer(w, 200, pilot)
	}
}
