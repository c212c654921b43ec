package medina

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"

	"kasbah/core/nearest"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Habits of other clouds that a Medina can have. What each changes in its API is in its
// document as well: habitsOverlay.
const (
	SummaryLists  = "summary-lists"  // a list shows no more of a thing than its id, its name and its tag
	IDLists       = "id-lists"       // a list shows ids alone
	plainPatch    = "plain-patch"    // an edit is taken as application/json and in no other form
	NoTags        = "no-tags"        // there are no entity tags
	WeakTags      = "weak-tags"      // tags are weak (RFC 9110, 8.8.3), and no edit is bound to one
	noKeys        = "no-keys"        // idempotency keys are not heeded
	offsetPages   = "offset-pages"   // lists are asked on by how many to skip
	envelope      = "envelope"       // what is sent and answered is in data
	postEdits     = "post-edits"     // an edit is a POST to /edit below the thing
	formBodies    = "form-bodies"    // what is sent is a form
	quietDelete   = "quiet-delete"   // a deletion answers 202 and says nothing else
	emptyAnswers  = "empty-answers"  // what was made is told by its Location alone, and an edit by nothing
	softDelete    = "soft-delete"    // what was deleted still shows, as deleted
	keyInQuery    = "key-in-query"   // every request has api_key in its query
	endlessNext   = "endless-next"   // every page says that there is another one
	plainRefusals = "plain-refusals" // a refusal is a line of text
	ListOnly      = "list-only"      // nothing reads one alone
	numberTexts   = "number-texts"   // numbers and truths are shown as texts
	laterSerials  = "later-serials"  // things show a serial, as a later version of it could
)

// Habits are all that there are, in byte order.
var Habits = []string{emptyAnswers, endlessNext, envelope, formBodies, IDLists, keyInQuery, laterSerials, ListOnly, noKeys,
	NoTags, numberTexts, offsetPages, plainPatch, plainRefusals, postEdits, quietDelete, softDelete, SummaryLists, WeakTags}

// habitsKey is what api_key must be where it is asked for.
const habitsKey = "lantern"

// excluding are habits that no cloud has at once.
var excluding = [][2]string{{SummaryLists, IDLists}, {NoTags, WeakTags}, {ListOnly, SummaryLists}, {ListOnly, IDLists}}

// CheckHabits is an error for a habit that there is not, and for two that exclude each
// other.
func CheckHabits(habits []string) error {
	for _, h := range habits {
		if !slices.Contains(Habits, h) {
			err := fmt.Sprintf("Medina has no habit %q", h)
			if hint := nearest.Hint(h, Habits); hint != "" {
				return fmt.Errorf("%s; %s", err, hint)
			}
			return fmt.Errorf("%s; it has %s", err, strings.Join(Habits, ", "))
		}
	}
	for _, pair := range excluding {
		if slices.Contains(habits, pair[0]) && slices.Contains(habits, pair[1]) {
			return fmt.Errorf("the habits %s and %s exclude each other", pair[0], pair[1])
		}
	}
	return nil
}

// habitsOverlay is an OpenAPI Overlay that says in Medina's document what its habits change;
// nil for none.
func habitsOverlay(habits []string) []byte {
	if len(habits) == 0 {
		return nil
	}
	has := func(h string) bool { return slices.Contains(habits, h) }
	var actions []any
	update := func(target string, with object) {
		actions = append(actions, object{"target": target, "update": with})
	}
	remove := func(target string) { actions = append(actions, object{"target": target, "remove": true}) }
	top, pages := object{}, object{}
	items := "items"
	if has(envelope) {
		top["in"], top["sent-in"] = "data", "data"
		items = "data.items"
		pages["items"] = items
	}
	if has(offsetPages) {
		pages["items"], pages["offset"], pages["limit"], pages["size"] = items, "offset", "limit", 7
	}
	if len(pages) > 0 {
		top["pages"] = pages
	}
	switch {
	case has(SummaryLists):
		top["lists"] = "summary"
	case has(IDLists):
		top["lists"] = "ids"
	}
	if has(ListOnly) {
		top["read"] = "list"
	}
	media := "application/merge-patch+json"
	if has(plainPatch) || has(postEdits) {
		media = "application/json"
	}
	if has(formBodies) {
		media = "application/x-www-form-urlencoded"
	}
	top["media"] = media
	if has(keyInQuery) {
		top["query"] = object{"api_key": object{"setting": "api_key"}}
	}
	update("$['x-kasbah']", top)
	for _, k := range kinds() {
		component := "$.components.schemas." + strings.ToUpper(k.Name[:1]) + k.Name[1:]
		x, more := component+"['x-kasbah']", object{}
		if has(NoTags) || has(WeakTags) || has(IDLists) {
			remove(x + ".tag")
			if !has(IDLists) || has(NoTags) || has(WeakTags) {
				more["properties"] = object{"revision": object{"ignored": true}}
			} else {
				more["properties"], more["tags"] = object{"revision": object{"ignored": true}}, true
			}
		}
		if has(noKeys) {
			remove(x + ".keys")
			remove(x + ".locate")
		}
		if has(postEdits) {
			at := "/" + k.plural + "/{id}/edit"
			more["edit"] = object{"method": "POST", "path": at}
			update("$.paths",
				object{at: object{"post": object{"requestBody": object{"content": object{media: object{}}},
					"responses": object{}}}})
		}
		if has(softDelete) {
			more["gone"] = object{"at": "state_of_life", "values": []string{"deleted"}}
			properties, _ := more["properties"].(object)
			if properties == nil {
				properties = object{}
				more["properties"] = properties
			}
			properties["state_of_life"] = object{"ignored": true}
		}
		if has(laterSerials) {
			update(component+".properties", object{"serial": object{"type": "string", "readOnly": true}})
		}
		if has(formBodies) {
			content := "$.paths['/" + k.plural + "'].post.requestBody.content"
			remove(content + "['application/json']")
			update(content, object{media: object{}})
		}
		if len(more) > 0 {
			update(x, more)
		}
	}
	body, err := json.Marshal(object{"overlay": "1.0.0", "info": object{"title": "habits", "version": "1"},
		"actions": actions})
	if err != nil {
		panic(err) // it holds nothing that JSON cannot write
	}
	return body
}

// habitual turns Medina's own API into one with habits.
type habitual struct {
	next http.Handler
	has  map[string]bool
	by   map[string]*kind // by plural

	mu      sync.Mutex
	deleted map[string]map[string]value.Map // by plural and id, where they still show
}

func newHabitual(next http.Handler, habits []string, by map[string]*kind) http.Handler {
	if len(habits) == 0 {
		return next
	}
	h := &habitual{next: next, has: map[string]bool{}, by: by, deleted: map[string]map[string]value.Map{}}
	for _, name := range habits {
		h.has[name] = true
	}
	return h
}

// ServeHTTP lets all but things through as it is.
func (h *habitual) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	parts := strings.Split(strings.Trim(r.URL.Path, "/"), "/")
	k := h.by[parts[0]]
	if k == nil || len(parts) > 3 {
		h.next.ServeHTTP(w, r)
		return
	}
	if h.has[keyInQuery] && r.URL.Query().Get("api_key") != habitsKey {
		h.refuse(w, &refusal{status: 401, title: "who are you?", detail: "api_key in the query is missing or wrong"})
		return
	}
	if no := h.request(r, k, parts); no != nil {
		h.refuse(w, no)
		return
	}
	if r.Method == http.MethodGet && len(parts) == 1 {
		h.list(w, r, k)
		return
	}
	if h.has[ListOnly] && r.Method == http.MethodGet {
		h.refuse(w, &refusal{status: 405, title: "not allowed", detail: "nothing reads one alone"})
		return
	}
	var last value.Map // a thing that is to be deleted, as it was
	if h.has[softDelete] && r.Method == http.MethodDelete && len(parts) == 2 {
		inner := r.Clone(r.Context())
		inner.Method, inner.Body = http.MethodGet, http.NoBody
		if v, err := value.Parse(h.ask(inner).Body.Bytes()); err == nil {
			last, _ = v.(map[string]any)
		}
	}
	a := h.ask(r)
	if a.Code < 300 && last["id"] != nil {
		h.remember(k, parts[1], last)
	}
	h.answer(w, r, k, parts, a)
}

// ask has Medina itself answer.
func (h *habitual) ask(r *http.Request) *httptest.ResponseRecorder {
	a := httptest.NewRecorder()
	h.next.ServeHTTP(a, r)
	return a
}

func (h *habitual) refuse(w http.ResponseWriter, no *refusal) {
	if !h.has[plainRefusals] {
		refuseWith(w, no)
		return
	}
	w.Header().Set("Content-Type", "text/plain")
	w.WriteHeader(no.status)
	fmt.Fprint(w, strings.ReplaceAll(no.detail, "\n", " "))
}

// request makes a request one that Medina itself understands.
func (h *habitual) request(r *http.Request, k *kind, parts []string) *refusal {
	if h.has[NoTags] {
		r.Header.Del("If-Match")
	}
	if tag := r.Header.Get("If-Match"); h.has[WeakTags] && tag != "" && tag != "*" {
		return &refusal{status: 412, title: "changed since it was read", detail: "a weak tag is never the same"}
	}
	if h.has[noKeys] {
		r.Header.Del("Idempotency-Key")
	}
	q := r.URL.Query()
	q.Del("api_key")
	if h.has[noKeys] {
		q.Del("key")
	}
	r.URL.RawQuery = q.Encode()
	edits := r.Method == http.MethodPatch
	if h.has[postEdits] {
		if edits {
			return &refusal{status: 405, title: "not allowed", detail: "edits are sent by POST to /edit"}
		}
		if edits = r.Method == http.MethodPost && len(parts) == 3 && parts[2] == "edit"; edits {
			r.Method, r.URL.Path = http.MethodPatch, "/"+parts[0]+"/"+parts[1]
		}
	}
	if !edits && (r.Method != http.MethodPost || len(parts) != 1) {
		return nil
	}
	want := "application/json"
	if edits && !h.has[plainPatch] && !h.has[postEdits] {
		want = "application/merge-patch+json"
	}
	if h.has[formBodies] {
		want = "application/x-www-form-urlencoded"
	}
	if got := r.Header.Get("Content-Type"); got != want {
		return &refusal{status: 415, title: "not understood", detail: fmt.Sprintf("this takes %s, and was sent %s",
			want, got)}
	}
	body, err := io.ReadAll(io.LimitReader(r.Body, maxBody+1))
	if err != nil || len(body) > maxBody {
		return &refusal{status: 400, title: "not readable", detail: "the body cannot be read"}
	}
	var sent any
	if h.has[formBodies] {
		form, err := url.ParseQuery(string(body))
		if err != nil {
			return &refusal{status: 400, title: "not readable", detail: "the form cannot be read"}
		}
		sent = unform(form)
	} else if sent, err = value.Parse(body); err != nil {
		return &refusal{status: 400, title: "not readable", detail: "the body is not JSON: " + err.Error()}
	}
	if h.has[envelope] {
		m, _ := sent.(map[string]any)
		if len(m) != 1 || m["data"] == nil {
			if len(m) > 0 || !h.has[formBodies] { // a form cannot say that there is nothing in data
				return &refusal{status: 400, title: "not readable", detail: "what is sent is in data"}
			}
			m = value.Map{"data": value.Map{}}
		}
		sent = m["data"]
	}
	if h.has[formBodies] {
		m, ok := sent.(map[string]any)
		if !ok {
			m = value.Map{}
		}
		for name, v := range m {
			m[name] = fromForm(k.Attribute(name), v)
		}
		sent = m
	}
	body = value.JSON(sent)
	r.Body, r.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	r.Header.Set("Content-Type", map[bool]string{true: "application/merge-patch+json",
		false: "application/json"}[edits])
	return nil
}

// unform reads nested values out of a form: lamp[colour]=red, hours[]=8, rules[0][port]=1.
func unform(form url.Values) any {
	out := value.Map{}
	names := make([]string, 0, len(form))
	for name := range form {
		names = append(names, name)
	}
	sort.Strings(names)
	for _, name := range names {
		steps := strings.Split(strings.ReplaceAll(name, "]", ""), "[")
		m := out
		for i, s := range steps[:len(steps)-1] {
			if steps[i+1] == "" { // a list of what is plain
				break
			}
			below, ok := m[s].(map[string]any)
			if !ok {
				below = value.Map{}
				m[s] = below
			}
			m = below
		}
		last := steps[len(steps)-1]
		if last == "" {
			list := []any{}
			for _, v := range form[name] {
				list = append(list, v)
			}
			m[steps[len(steps)-2]] = list
			continue
		}
		m[last] = form.Get(name)
	}
	return out
}

// fromForm is a value of a form as an attribute has it; what is empty is nothing.
func fromForm(a *schema.Attribute, v any) any {
	if a == nil {
		return v
	}
	switch v := v.(type) {
	case string:
		if v == "" {
			switch a.Kind {
			case schema.List:
				return []any{}
			case schema.MapOf, schema.Record:
				return value.Map{}
			}
			return nil
		}
		if a.Kind != schema.Text {
			if parsed, err := value.Parse([]byte(v)); err == nil {
				return parsed
			}
		}
	case []any:
		for i := range v {
			v[i] = fromForm(a.Elem, v[i])
		}
	case map[string]any:
		if a.Kind == schema.List { // its keys are numbers
			keys := value.Keys(v)
			sort.Slice(keys, func(i, j int) bool {
				n, _ := strconv.Atoi(keys[i])
				m, _ := strconv.Atoi(keys[j])
				return n < m
			})
			list := []any{}
			for _, key := range keys {
				list = append(list, fromForm(a.Elem, v[key]))
			}
			return list
		}
		for name := range v {
			below := a.Elem
			for _, f := range a.Fields {
				if f.Name == name {
					below = f
				}
			}
			v[name] = fromForm(below, v[name])
		}
	}
	return v
}

// inText is a value with texts in place of numbers and truths.
func inText(v any) any {
	switch is := v.(type) {
	case int64, float64, bool:
		return value.Plain(is)
	case []any:
		for i := range is {
			is[i] = inText(is[i])
		}
	case map[string]any:
		for name := range is {
			is[name] = inText(is[name])
		}
	}
	return v
}

// shown is a thing as it is shown.
func (h *habitual) shown(m value.Map, deleted bool) value.Map {
	out := value.CloneMap(m)
	if h.has[numberTexts] {
		inText(map[string]any(out))
	}
	if h.has[NoTags] || h.has[WeakTags] {
		delete(out, "revision")
	}
	if h.has[laterSerials] {
		out["serial"] = fmt.Sprint("serial-", m["id"])
	}
	if h.has[softDelete] {
		out["state_of_life"] = map[bool]string{true: "deleted", false: "alive"}[deleted]
	}
	return out
}

// list answers a list, from all that Medina itself has.
func (h *habitual) list(w http.ResponseWriter, r *http.Request, k *kind) {
	q := r.URL.Query()
	offset, limit := 0, pageSize
	if h.has[offsetPages] {
		offset, _ = strconv.Atoi(q.Get("offset"))
		if n, err := strconv.Atoi(q.Get("limit")); err == nil && n > 0 {
			limit = n
		}
		q.Del("offset")
		q.Del("limit")
	}
	items, link := []any{}, ""
	for at := "/" + k.plural + "?" + q.Encode(); at != ""; {
		u, err := url.Parse(at)
		if err != nil {
			break
		}
		inner := r.Clone(r.Context())
		inner.URL.RawQuery = u.RawQuery
		a := h.ask(inner)
		if a.Code != http.StatusOK {
			h.answer(w, r, k, []string{k.plural}, a)
			return
		}
		v, err := value.Parse(a.Body.Bytes())
		page, _ := v.(map[string]any)
		list, _ := page["items"].([]any)
		if err != nil {
			break
		}
		items = append(items, list...)
		link = strings.TrimSuffix(strings.TrimPrefix(a.Header().Get("Link"), "<"), `>; rel="next"`)
		if at = ""; h.has[offsetPages] {
			at = link
		}
	}
	for i := range items {
		items[i] = h.shown(items[i].(map[string]any), false)
	}
	if h.has[softDelete] && q.Get("after") == "" && q.Get("name") == "" && q.Get("key") == "" {
		h.mu.Lock()
		for _, id := range value.Keys(h.deleted[k.plural]) {
			items = append(items, h.shown(h.deleted[k.plural][id], true))
		}
		h.mu.Unlock()
	}
	if h.has[offsetPages] {
		link = ""
		items = items[min(offset, len(items)):min(offset+limit, len(items))]
	}
	for i := range items {
		m := items[i].(map[string]any)
		switch {
		case h.has[IDLists]:
			items[i] = m["id"]
		case h.has[SummaryLists]:
			short := value.Map{}
			for _, name := range []string{"id", "name", "revision", "state_of_life"} {
				if m[name] != nil {
					short[name] = m[name]
				}
			}
			items[i] = short
		}
	}
	if h.has[endlessNext] && link == "" {
		q := r.URL.Query()
		q.Set("after", "999999999")
		link = r.URL.Path + "?" + q.Encode()
	}
	if link != "" {
		w.Header().Set("Link", "<"+link+`>; rel="next"`)
	}
	h.send(w, http.StatusOK, value.Map{"items": items})
}

func (h *habitual) send(w http.ResponseWriter, status int, v any) {
	if h.has[envelope] {
		v = value.Map{"data": v}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_, _ = w.Write(value.JSON(v)) // the client may be gone
}

// answer passes on what Medina itself has answered about one thing.
func (h *habitual) answer(w http.ResponseWriter, r *http.Request, k *kind, parts []string,
	a *httptest.ResponseRecorder) {
	for name, v := range a.Header() {
		w.Header()[name] = v
	}
	w.Header().Del("Content-Length")
	if tag := w.Header().Get("ETag"); h.has[NoTags] {
		w.Header().Del("ETag")
	} else if h.has[WeakTags] && tag != "" {
		w.Header().Set("ETag", "W/"+tag)
	}
	v, err := value.Parse(a.Body.Bytes())
	m, isObject := v.(map[string]any)
	switch {
	case a.Code == http.StatusNotFound && r.Method == http.MethodGet && len(parts) == 2 && h.softly(k, parts[1]) != nil:
		h.send(w, http.StatusOK, h.shown(h.softly(k, parts[1]), true))
	case a.Code >= 400:
		if h.has[plainRefusals] && isObject && err == nil {
			detail, _ := m["detail"].(string)
			h.refuse(w, &refusal{status: a.Code, detail: detail})
			return
		}
		w.WriteHeader(a.Code)
		_, _ = w.Write(a.Body.Bytes())
	case r.Method == http.MethodDelete:
		if h.has[quietDelete] {
			w.Header().Del("Location")
			w.WriteHeader(http.StatusAccepted)
			return
		}
		w.WriteHeader(a.Code)
	case h.has[emptyAnswers] && isObject && r.Method == http.MethodPost:
		w.Header().Set("Location", "/"+k.plural+"/"+fmt.Sprint(m["id"]))
		w.WriteHeader(a.Code)
	case h.has[emptyAnswers] && isObject && r.Method == http.MethodPatch:
		w.WriteHeader(http.StatusNoContent)
	case isObject && err == nil:
		h.send(w, a.Code, h.shown(m, false))
	default:
		w.WriteHeader(a.Code)
		_, _ = w.Write(a.Body.Bytes())
	}
}

// softly is what still shows of a deleted thing; nil for nothing.
func (h *habitual) softly(k *kind, id string) value.Map {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.deleted[k.plural][id]
}

// remember notes a thing that is about to be deleted.
func (h *habitual) remember(k *kind, id string, m value.Map) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.deleted[k.plural] == nil {
		h.deleted[k.plural] = map[string]value.Map{}
	}
	h.deleted[k.plural][id] = m
}
