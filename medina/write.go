package medina

import (
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// answer is what a write is answered with. It is kept under the idempotency
// key, so that a repeated request gets the same one.
type answer struct {
	status   int
	location string
	tag      string
	body     string
	made     value.Map // in a rehearsal
}

func (a answer) send(w http.ResponseWriter) error {
	h := w.Header()
	if a.location != "" {
		h.Set("Location", a.location)
	}
	if a.tag != "" {
		h.Set("ETag", a.tag)
	}
	if a.status == http.StatusAccepted {
		h.Set("Retry-After", "1")
	}
	if a.body != "" {
		h.Set("Content-Type", "application/json")
	}
	w.WriteHeader(a.status)
	_, err := io.WriteString(w, a.body)
	return err
}

type request struct {
	kind  *kind
	id    string
	body  value.Map
	ifTag string
	who   string
	by    *Token
	key   string
	path  string
}

// write answers a request that changes something, once per idempotency key.
func (s *Server) write(w http.ResponseWriter, r *http.Request, k *kind, do func(*tx, request) (answer, error)) error {
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	var large *http.MaxBytesError
	if err != nil && !errors.As(err, &large) {
		return &refusal{status: 400, title: "not readable", detail: "the body did not come whole: " + err.Error()}
	}
	if err != nil {
		return &refusal{status: 413, title: "too large", detail: fmt.Sprintf("a body is at most %d bytes", maxBody)}
	}
	q := request{kind: k, id: chi.URLParam(r, "id"), ifTag: r.Header.Get("If-Match"), who: who(r),
		by: asker(r.Context()), key: r.Header.Get("Idempotency-Key"), path: "/" + k.plural}
	if r.Method != http.MethodDelete {
		v, err := value.Parse(raw)
		body, ok := v.(map[string]any)
		if err != nil || !ok {
			return &refusal{status: 400, title: "not readable", detail: "the body is not a JSON object"}
		}
		q.body = body
	}
	key := q.key
	digest := fmt.Sprintf("%x", sha256.Sum256([]byte(r.Method+" "+r.URL.Path+"\n"+string(raw))))
	var a answer
	err = s.db.update(r.Context(), func(t *tx) error {
		t.quotas, t.types = s.o.Quotas, s.types
		if key != "" {
			old, found, err := t.real.answered(key, digest)
			if err != nil || found {
				a = old
				return err
			}
		}
		if a, err = do(t, q); err != nil {
			return err
		}
		if key == "" {
			return nil
		}
		return t.real.exec(`insert into keys values (?, ?, ?, ?, ?, ?, ?)`, key, digest, a.status, a.location, a.tag,
			a.body, time.Now().Unix())
	})
	if err != nil {
		return err
	}
	return a.send(w)
}

// answered finds what a key was answered with.
func (t *tables) answered(key, digest string) (answer, bool, error) {
	var a answer
	var request string
	err := t.row(`select request, status, location, tag, body from keys where key = ? and at > ?`,
		key, time.Now().Add(-keyMemory).Unix()).Scan(&request, &a.status, &a.location, &a.tag, &a.body)
	if errors.Is(err, sql.ErrNoRows) {
		return a, false, t.exec(`delete from keys where key = ?`, key)
	}
	if err == nil && request != digest {
		err = &refusal{status: 422, title: "key used before",
			detail: "this idempotency key came with another request before"}
	}
	return a, err == nil, err
}

func etag(m value.Map) string { return `"` + m["revision"].(string) + `"` }

// done makes the answer of a write that takes d at pace 1.
func (s *Server) done(t *tx, d time.Duration, status int, k *kind, m value.Map) (answer, error) {
	if t.real == nil {
		return answer{made: m}, nil
	}
	path := fmt.Sprintf("/%s/%s", k.plural, m["id"])
	if wait := time.Duration(float64(d) * s.o.Pace); wait >= time.Millisecond {
		n, err := t.next("operation")
		if err != nil {
			return answer{}, err
		}
		id := fmt.Sprintf("op-%06d", n)
		if status == http.StatusNoContent {
			path = ""
		}
		err = t.real.exec(`insert into operations values (?, ?, ?, ?)`, id, m["id"], path,
			time.Now().Add(wait).UnixMilli())
		return answer{status: http.StatusAccepted, location: "/operations/" + id}, err
	}
	if status == http.StatusNoContent {
		return answer{status: status}, nil
	}
	a := answer{status: status, tag: etag(m), body: string(value.JSON(m))}
	if status == http.StatusCreated {
		a.location = path
	}
	return a, nil
}

func (s *Server) create(t *tx, q request) (answer, error) {
	k := q.kind
	is, err := k.accept(q.body)
	if err != nil {
		return answer{}, err
	}
	for _, a := range k.Attributes {
		if _, given := is[a.Name]; !given && a.HasDefault {
			is[a.Name] = a.Default
		}
	}
	n, err := t.next(k.prefix)
	if err != nil {
		return answer{}, err
	}
	id := fmt.Sprintf("%s-%04d", k.prefix, n)
	is["id"], is["revision"] = id, "1"
	if k.Attribute("name") != nil && is["name"] == nil {
		is["name"] = id
	}
	if err := t.refer(k, id, nil, is); err != nil {
		return answer{}, err
	}
	if err := k.decide(t, id, nil, is); err != nil {
		return answer{}, err
	}
	if err := t.claim(k, id, nil, is); err != nil {
		return answer{}, err
	}
	if err := t.hide(k, id, is); err != nil {
		return answer{}, err
	}
	if zone, ok := is["zone"].(string); ok {
		t.zone = zone
	}
	if err := errors.Join(q.by.inZone(t.zone), t.withinQuota(k.Name, t.zone)); err != nil {
		return answer{}, err
	}
	if err := t.insert(id, &thing{typ: k.Name, body: is, zone: t.zone, parent: t.parent, lo: t.lo, hi: t.hi},
		q.key); err != nil {
		return answer{}, err
	}
	if err := t.event(q.who, "created", k, is, nil); err != nil {
		return answer{}, err
	}
	return s.done(t, k.takes.create, http.StatusCreated, k, is)
}

// copy makes a thing like another one, which uses nothing that refers to others
// and has a name that says what it is.
func (s *Server) copy(t *tx, q request) (answer, error) {
	of, err := t.find(q)
	if err != nil {
		return answer{}, err
	}
	is, err := t.hidden(q.kind, q.id)
	if err != nil {
		return answer{}, err
	}
	if is == nil {
		is = value.Map{}
	}
	for _, a := range q.kind.Inputs() {
		if v, ok := of[a.Name]; ok && (a.Refers == "" || a.Required) {
			is[a.Name] = value.Clone(v)
		}
	}
	if name, ok := of["name"].(string); ok {
		is["name"] = name[:min(len(name), 58)] + "-copy"
	}
	q.body = is
	return s.create(t, q)
}

// accept holds a new thing's body against the schema.
func (k *kind) accept(body value.Map) (value.Map, error) {
	for name, v := range body {
		if v == nil {
			delete(body, name)
		}
	}
	is, faults := k.Check(body)
	if len(faults) == 0 {
		return is, nil
	}
	no := &refusal{status: 422, title: "not acceptable"}
	for _, f := range faults {
		no.errors = append(no.errors, pointed{Pointer: f.Path.Pointer(), Detail: f.Message})
	}
	no.detail = faults[0].Message
	return nil, no
}

// find reads the thing of a request and holds its tag against If-Match.
func (t *tx) find(q request) (value.Map, error) {
	is, err := t.thing(q.id)
	if err != nil {
		return nil, err
	}
	if is == nil || is.typ != q.kind.Name {
		return nil, &refusal{status: 404, title: "not found", detail: fmt.Sprintf("there is no %s %s", q.kind.Name,
			q.id)}
	}
	if err := q.by.inZone(is.zone); err != nil {
		return nil, err
	}
	m := maps.Clone(is.body)
	if q.ifTag != "" && q.ifTag != "*" && q.ifTag != etag(m) {
		return nil, &refusal{status: 412, title: "changed since it was read",
			detail: fmt.Sprintf("%s %s is at revision %s, not %s", q.kind.Name, q.id, m["revision"],
				strings.Trim(q.ifTag, `"`))}
	}
	return m, nil
}

// edit applies a merge patch (RFC 7396).
func (s *Server) edit(t *tx, q request) (answer, error) {
	k := q.kind
	was, err := t.find(q)
	if err != nil {
		return answer{}, err
	}
	secrets, err := t.hidden(q.kind, q.id)
	if err != nil {
		return answer{}, err
	}
	for name, v := range secrets {
		was[name] = v
	}
	given := value.Map{}
	for _, a := range k.Inputs() {
		if v, ok := was[a.Name]; ok {
			given[a.Name] = value.Clone(v)
		}
	}
	merge(given, q.body)
	for name := range q.body {
		if a := k.Attribute(name); a != nil && a.HasDefault && given[name] == nil {
			given[name] = a.Default // taken away means back to the default
		}
	}
	is, err := k.accept(given)
	if err != nil {
		return answer{}, err
	}
	for _, a := range k.Attributes {
		switch {
		case a.Output:
			is[a.Name] = was[a.Name]
		case a.Fixed && !value.Equal(was[a.Name], is[a.Name]):
			return answer{}, refuse(a.Name, "%s of %s cannot be changed once it is made", a.Name,
				schema.WithArticle(k.Name))
		}
	}
	if err := t.refer(k, q.id, was, is); err != nil {
		return answer{}, err
	}
	if err := k.decide(t, q.id, was, is); err != nil {
		return answer{}, err
	}
	if err := t.claim(k, q.id, was, is); err != nil {
		return answer{}, err
	}
	var changes []change
	if t.real != nil {
		changes = k.differences(was, is)
	}
	if err := t.hide(k, q.id, is); err != nil {
		return answer{}, err
	}
	if t.real != nil && len(changes) == 0 {
		is["revision"] = was["revision"]
		return s.done(t, 0, http.StatusOK, k, is)
	}
	if err := t.rewrite(is); err != nil {
		return answer{}, err
	}
	if err := t.event(q.who, "edited", k, is, changes); err != nil {
		return answer{}, err
	}
	return s.done(t, k.takes.edit, http.StatusOK, k, is)
}

func merge(into, patch value.Map) {
	for k, v := range patch {
		sub, ok := v.(map[string]any)
		old, both := into[k].(map[string]any)
		switch {
		case v == nil:
			delete(into, k)
		case ok && both:
			merge(old, sub)
		default:
			into[k] = v
		}
	}
}

func (s *Server) remove(t *tx, q request) (answer, error) {
	was, err := t.find(q)
	if err != nil {
		return answer{}, err
	}
	user, err := t.inUse(q.id)
	if err != nil {
		return answer{}, err
	}
	if user != "" {
		return answer{}, &refusal{status: 409, title: "in use", detail: fmt.Sprintf("%s %s is in use by %s",
			q.kind.Name, q.id, user)}
	}
	if q.kind.mayGo != nil {
		if err := q.kind.mayGo(was); err != nil {
			return answer{}, err
		}
	}
	if q.kind.release != nil {
		if err := q.kind.release(t, q.id, was); err != nil {
			return answer{}, err
		}
	}
	if err := t.erase(q.id, q.kind.claims(was)); err != nil {
		return answer{}, err
	}
	if err := t.event(q.who, "deleted", q.kind, was, nil); err != nil {
		return answer{}, err
	}
	return s.done(t, q.kind.takes.remove, http.StatusNoContent, q.kind, was)
}
