package openapi

import (
	"context"
	"fmt"
	"iter"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/driver"
)

// Options of a driver.
type Options struct {
	Document []byte // OpenAPI 3.1, JSON or YAML
	// Base finds the URL that paths are below. It is called once, at the
	// first request, and may start a server.
	Base func(context.Context) (string, error)
	// From names the person or program that acts (RFC 9110, 10.1.2).
	From   string
	Auth   Auth
	Client *http.Client // nil for one of its own
	Close  func() error // ends what Base started; may be nil
}

const (
	maxAnswer = 64 << 20 // bytes of one answer
	maxPages  = 1_000_000
	readTries = 5
)

// Driver is a driver for a described API.
type Driver struct {
	o    Options
	doc  *document
	http *http.Client
	auth *authorizer
	base func(context.Context) (string, error)
}

var (
	_ driver.Driver = (*Driver)(nil)
	_ driver.Feed   = (*Driver)(nil)
)

// New reads the document. No request is made yet.
func New(o Options) (*Driver, error) {
	doc, err := parse(o.Document, true)
	if err != nil {
		return nil, err
	}
	d := &Driver{o: o, doc: doc, http: o.Client}
	if d.http == nil {
		transport := http.DefaultTransport.(*http.Transport).Clone()
		transport.MaxIdleConnsPerHost = 64
		d.http = &http.Client{Transport: transport}
	}
	follow := *d.http
	follow.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	d.http = &follow
	d.auth = &authorizer{auth: o.Auth, http: d.http}
	var mu sync.Mutex
	var found string
	d.base = func(ctx context.Context) (string, error) {
		mu.Lock()
		defer mu.Unlock()
		if found != "" {
			return found, nil
		}
		b, err := o.Base(ctx)
		if err != nil {
			return "", err
		}
		found = strings.TrimSuffix(b, "/")
		return found, nil
	}
	return d, nil
}

// Describe returns the document's catalogue.
func (d *Driver) Describe(context.Context) (*schema.Catalog, error) { return d.doc.catalog, nil }

// Vet knows nothing beyond the schema.
func (d *Driver) Vet(context.Context, string, value.Map) []driver.Problem { return nil }

// Close ends idle connections and what Base started.
func (d *Driver) Close() error {
	d.http.CloseIdleConnections()
	if d.o.Close != nil {
		return d.o.Close()
	}
	return nil
}

func (d *Driver) info(typ string) (typeInfo, error) {
	t, ok := d.doc.types[typ]
	if !ok {
		return t, fmt.Errorf("the API has no type %q", typ)
	}
	return t, nil
}

// live reads a thing out of a JSON object. tag is the ETag header, or "".
func (d *Driver) live(typ string, m value.Map, tag string) (driver.Live, error) {
	t := d.doc.catalog.Types[typ]
	info := d.doc.types[typ]
	id, ok := m[t.ID].(string)
	if !ok || id == "" {
		return driver.Live{}, &driver.Error{Message: fmt.Sprintf("the cloud shows a %s without %s", typ, t.ID)}
	}
	if info.tag != "" {
		if tag == "" {
			s, ok := m[info.tag].(string)
			if !ok {
				s = value.Plain(m[info.tag])
			}
			tag = `"` + s + `"` // RFC 9110, 8.8.3
		}
		delete(m, info.tag)
	}
	for name, v := range m {
		// a cloud should not show a secret; one that does is not listened to
		if a := t.Attribute(name); v == nil || a != nil && a.Secret {
			delete(m, name)
		}
	}
	return driver.Live{ID: id, Tag: tag, Attributes: m}, nil
}

func (d *Driver) liveReply(typ string, r *reply) (driver.Live, error) {
	v, err := value.Parse(r.body)
	m, ok := v.(map[string]any)
	if err != nil || !ok {
		return driver.Live{}, &driver.Error{Message: "the cloud's answer is no JSON object"}
	}
	return d.live(typ, m, r.header.Get("ETag"))
}

// Read reads one thing.
func (d *Driver) Read(ctx context.Context, typ, id string) (driver.Live, error) {
	t, err := d.info(typ)
	if err != nil {
		return driver.Live{}, err
	}
	r, err := d.get(ctx, t.path+"/"+url.PathEscape(id))
	if err != nil {
		return driver.Live{}, err
	}
	return d.liveReply(typ, r)
}

// List reads a type's pages. The next page is fetched while the caller works
// on this one.
func (d *Driver) List(ctx context.Context, typ string) iter.Seq2[driver.Live, error] {
	return d.listAt(ctx, typ, "")
}

func (d *Driver) listAt(ctx context.Context, typ, query string) iter.Seq2[driver.Live, error] {
	return func(yield func(driver.Live, error) bool) {
		t, err := d.info(typ)
		if err != nil {
			yield(driver.Live{}, err)
			return
		}
		d.pages(ctx, t.path+query, func(m value.Map) bool {
			l, err := d.live(typ, m, "")
			return yield(l, err) && err == nil
		}, func(err error) { yield(driver.Live{}, err) })
	}
}

// Find lists and compares; a name is asked for where the API can.
func (d *Driver) Find(ctx context.Context, typ string, match value.Map) ([]driver.Live, error) {
	query := ""
	if name, ok := match["name"].(string); ok && d.doc.types[typ].byName {
		query = "?" + url.Values{"name": {name}}.Encode()
	}
	var out []driver.Live
	for l, err := range d.listAt(ctx, typ, query) {
		if err != nil {
			return nil, err
		}
		same := true
		for k, v := range match {
			same = same && value.Equal(l.Attributes[k], v)
		}
		if same {
			out = append(out, l)
		}
	}
	return out, nil
}

// Create makes a thing and waits until it is there.
func (d *Driver) Create(ctx context.Context, typ string, inputs value.Map, key string) (driver.Live, error) {
	t, err := d.info(typ)
	if err != nil {
		return driver.Live{}, err
	}
	return d.write(ctx, http.MethodPost, typ, t.path, "application/json", value.JSON(inputs), "", key)
}

// Update sends a merge patch (RFC 7396) and waits until it is done.
func (d *Driver) Update(ctx context.Context, typ, id string, change driver.Change, tag, key string) (driver.Live, error) {
	t, err := d.info(typ)
	if err != nil {
		return driver.Live{}, err
	}
	patch := mergePatch(change.From, change.To)
	return d.write(ctx, http.MethodPatch, typ, t.path+"/"+url.PathEscape(id), "application/merge-patch+json", value.JSON(patch), tag, key)
}

// mergePatch is the patch that turns from into to.
func mergePatch(from, to value.Map) value.Map {
	patch := value.Map{}
	for k, v := range to {
		old, had := from[k]
		if had && value.Equal(old, v) {
			continue
		}
		oldMap, ok1 := old.(map[string]any)
		newMap, ok2 := v.(map[string]any)
		if ok1 && ok2 {
			patch[k] = mergePatch(oldMap, newMap)
		} else {
			patch[k] = v
		}
	}
	for k := range from {
		if _, ok := to[k]; !ok {
			patch[k] = nil
		}
	}
	return patch
}

// Copy makes a copy of a thing and waits until it is there.
func (d *Driver) Copy(ctx context.Context, typ, id, key string) (driver.Live, error) {
	t, err := d.info(typ)
	if err != nil {
		return driver.Live{}, err
	}
	if t.copies == "" {
		return driver.Live{}, &driver.Error{Message: "a " + typ + " cannot be copied"}
	}
	return d.write(ctx, http.MethodPost, typ, t.path+"/"+url.PathEscape(id)+"/"+t.copies, "application/json", []byte("{}"), "", key)
}

// Delete deletes a thing and waits until it is gone.
func (d *Driver) Delete(ctx context.Context, typ, id, tag, key string) error {
	t, err := d.info(typ)
	if err != nil {
		return err
	}
	_, err = d.write(ctx, http.MethodDelete, typ, t.path+"/"+url.PathEscape(id), "", nil, tag, key)
	return err
}

func (d *Driver) write(ctx context.Context, method, typ, path, media string, body []byte, tag, key string) (driver.Live, error) {
	h := http.Header{}
	if media != "" {
		h.Set("Content-Type", media)
	}
	if tag != "" {
		h.Set("If-Match", tag)
	}
	if key != "" {
		h.Set("Idempotency-Key", key)
	}
	r, err := d.send(ctx, method, path, h, body)
	if err != nil {
		return driver.Live{}, err
	}
	if r.status == http.StatusAccepted {
		if r, err = d.settle(ctx, r); err != nil {
			return driver.Live{}, err
		}
	}
	if method == http.MethodDelete {
		return driver.Live{}, nil
	}
	return d.liveReply(typ, r)
}

// Changes reads the change feed that the document names.
func (d *Driver) Changes(ctx context.Context, typ, id string) iter.Seq2[driver.Event, error] {
	return func(yield func(driver.Event, error) bool) {
		if d.doc.changes == "" {
			return
		}
		path := d.doc.changes
		if id != "" {
			path += "?" + url.Values{"id": {id}}.Encode()
		}
		d.pages(ctx, path, func(m value.Map) bool {
			e, ok := eventOf(m)
			if !ok || typ != "" && e.Type != typ {
				return true
			}
			return yield(e, nil)
		}, func(err error) { yield(driver.Event{}, err) })
	}
}

func eventOf(m value.Map) (driver.Event, bool) {
	text := func(k string) string { s, _ := m[k].(string); return s }
	at, err := time.Parse(time.RFC3339, text("at"))
	if err != nil {
		return driver.Event{}, false
	}
	e := driver.Event{At: at, Who: text("who"), What: text("what"), Type: text("type"), ID: text("id")}
	changes, _ := m["changes"].([]any)
	for _, c := range changes {
		if c, ok := c.(map[string]any); ok {
			if p, ok := c["path"].(string); ok {
				e.Paths = append(e.Paths, p)
			}
		}
	}
	return e, true
}
