package openapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

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
	base func(context.Context) (string, error)
}

var (
	_ driver.Driver = (*Driver)(nil)
	_ driver.Feed   = (*Driver)(nil)
)

// New reads the document. No request is made yet.
func New(o Options) (*Driver, error) {
	doc, err := parse(o.Document)
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

// reply is an answer that was read whole.
type reply struct {
	status int
	header http.Header
	body   []byte
}

// send makes one request. Failures to reach the other side are passing.
func (d *Driver) send(ctx context.Context, method, path string, header http.Header, body []byte) (*reply, error) {
	base, err := d.base(ctx)
	if err != nil {
		return nil, err
	}
	target := path
	if !strings.Contains(path, "://") {
		target = base + path
	}
	req, err := http.NewRequestWithContext(ctx, method, target, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	req.Header.Set("Accept", "application/json, application/problem+json")
	if d.o.From != "" {
		req.Header.Set("From", d.o.From)
	}
	res, err := d.http.Do(req)
	if err != nil {
		return nil, d.unreachable(ctx, err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer+1))
	if err != nil {
		return nil, d.unreachable(ctx, err)
	}
	if len(raw) > maxAnswer {
		return nil, &driver.Error{Message: fmt.Sprintf("%s %s answers more than %d bytes", method, path, maxAnswer)}
	}
	r := &reply{status: res.StatusCode, header: res.Header, body: raw}
	if r.status >= 400 {
		return r, refusal(r)
	}
	return r, nil
}

func (d *Driver) unreachable(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err
	}
	var dns *net.DNSError
	return &driver.Error{Message: "the cloud cannot be reached: " + err.Error(), Passing: !errors.As(err, &dns) || dns.IsTemporary}
}

// refusal reads an error answer: RFC 9457 where it is one.
func refusal(r *reply) error {
	e := &driver.Error{Message: http.StatusText(r.status)}
	if s := r.header.Get("Retry-After"); s != "" {
		e.After = retryAfter(s)
	}
	switch r.status {
	case http.StatusTooManyRequests, http.StatusServiceUnavailable, http.StatusBadGateway, http.StatusGatewayTimeout, http.StatusRequestTimeout:
		e.Passing = true
	}
	if media, _, _ := mime.ParseMediaType(r.header.Get("Content-Type")); media == "application/problem+json" {
		var p struct {
			Title, Detail string
			Errors        []struct{ Pointer, Detail string }
		}
		if json.Unmarshal(r.body, &p) == nil {
			if e.Message = p.Detail; e.Message == "" {
				e.Message = p.Title
			}
			for _, x := range p.Errors {
				e.Problems = append(e.Problems, driver.Problem{Path: fromPointer(x.Pointer), Message: x.Detail})
			}
		}
	}
	switch r.status {
	case http.StatusNotFound, http.StatusGone:
		return fmt.Errorf("%w: %w", driver.ErrGone, e)
	case http.StatusPreconditionFailed:
		return fmt.Errorf("%w: %w", driver.ErrTag, e)
	}
	return e
}

func retryAfter(s string) time.Duration {
	if n, err := strconv.Atoi(s); err == nil && n >= 0 {
		return time.Duration(min(n, 3600)) * time.Second
	}
	if t, err := http.ParseTime(s); err == nil {
		return min(max(0, time.Until(t)), time.Hour)
	}
	return 0
}

// fromPointer turns a JSON pointer (RFC 6901) into a path.
func fromPointer(s string) string {
	var p value.Path
	for _, part := range strings.Split(strings.TrimPrefix(s, "/"), "/") {
		part = strings.NewReplacer("~1", "/", "~0", "~").Replace(part)
		if n, err := strconv.Atoi(part); err == nil && n >= 0 && len(p) > 0 {
			p = append(p, value.Item(n))
		} else if part != "" {
			p = append(p, value.Key(part))
		}
	}
	return p.String()
}

// get is send for reading, with a few tries where the fault may pass.
func (d *Driver) get(ctx context.Context, path string) (*reply, error) {
	return backoff.Retry(ctx, func() (*reply, error) {
		r, err := d.send(ctx, http.MethodGet, path, nil, nil)
		if err == nil {
			return r, nil
		}
		passing, after := driver.IsPassing(err)
		switch {
		case !passing:
			return r, backoff.Permanent(err)
		case after > 0:
			return r, &backoff.RetryAfterError{Duration: after}
		}
		return r, err
	}, backoff.WithMaxTries(readTries), backoff.WithBackOff(&backoff.ExponentialBackOff{InitialInterval: 100 * time.Millisecond, RandomizationFactor: 0.5, Multiplier: 2, MaxInterval: 5 * time.Second}))
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
		if v == nil {
			delete(m, name)
		}
	}
	return driver.Live{ID: id, Tag: tag, Attributes: m}, nil
}

func (d *Driver) liveReply(typ string, r *reply) (driver.Live, error) {
	v, err := value.Decode(r.body)
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

// pages walks a list along its Link headers (RFC 8288).
func (d *Driver) pages(ctx context.Context, path string, item func(value.Map) bool, failed func(error)) {
	type page struct {
		r   *reply
		err error
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	fetch := func(path string) chan page {
		c := make(chan page, 1)
		go func() {
			r, err := d.get(ctx, path)
			c <- page{r, err}
		}()
		return c
	}
	coming := fetch(path)
	for range maxPages {
		p := <-coming
		if p.err != nil {
			failed(p.err)
			return
		}
		next := nextLink(p.r.header)
		if next != "" {
			coming = fetch(next)
		}
		items, err := itemsOf(p.r.body)
		if err != nil {
			failed(err)
			return
		}
		for _, m := range items {
			if !item(m) {
				return
			}
		}
		if next == "" {
			return
		}
	}
	failed(&driver.Error{Message: fmt.Sprintf("the list at %s does not end", path)})
}

// itemsOf reads a page: an array, or an object with one array in it.
func itemsOf(body []byte) ([]value.Map, error) {
	v, err := value.Decode(body)
	if err != nil {
		return nil, &driver.Error{Message: "the cloud's list is not JSON: " + err.Error()}
	}
	list, ok := v.([]any)
	if m, isMap := v.(map[string]any); isMap {
		for _, k := range value.Keys(m) {
			if l, isList := m[k].([]any); isList {
				list, ok = l, true
			}
		}
	}
	if !ok {
		return nil, &driver.Error{Message: "the cloud's list holds no array"}
	}
	out := make([]value.Map, len(list))
	for i := range list {
		if out[i], ok = list[i].(map[string]any); !ok {
			return nil, &driver.Error{Message: "the cloud's list holds something else than objects"}
		}
	}
	return out, nil
}

func nextLink(h http.Header) string {
	for _, line := range h.Values("Link") {
		for _, link := range strings.Split(line, ",") {
			target, params, ok := strings.Cut(strings.TrimSpace(link), ">")
			if !ok || !strings.HasPrefix(target, "<") {
				continue
			}
			for _, p := range strings.Split(params, ";") {
				if k, v, _ := strings.Cut(strings.TrimSpace(p), "="); k == "rel" && strings.Trim(v, `"`) == "next" {
					return target[1:]
				}
			}
		}
	}
	return ""
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
	return d.write(ctx, http.MethodPost, typ, t.path, "application/json", value.Encode(inputs), "", key)
}

// Update sends a merge patch (RFC 7396) and waits until it is done.
func (d *Driver) Update(ctx context.Context, typ, id string, change driver.Change, tag, key string) (driver.Live, error) {
	t, err := d.info(typ)
	if err != nil {
		return driver.Live{}, err
	}
	patch := mergePatch(change.From, change.To)
	return d.write(ctx, http.MethodPatch, typ, t.path+"/"+url.PathEscape(id), "application/merge-patch+json", value.Encode(patch), tag, key)
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

// settle follows work that takes time: the Location of a 202 is asked again
// until it answers something else. Where the server can hold the answer back
// it is asked to (RFC 7240, wait), so that nothing is polled.
func (d *Driver) settle(ctx context.Context, r *reply) (*reply, error) {
	place := r.header.Get("Location")
	if place == "" {
		return nil, &driver.Error{Message: "the cloud accepted the work and does not say where to follow it"}
	}
	for {
		asked := time.Now()
		var err error
		r, err = d.send(ctx, http.MethodGet, place, http.Header{"Prefer": {"wait=20"}}, nil)
		if passing, after := driver.IsPassing(err); passing {
			if err := pause(ctx, max(after, 500*time.Millisecond)); err != nil {
				return nil, err
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		switch r.status {
		case http.StatusAccepted:
			wait := retryAfter(r.header.Get("Retry-After"))
			if err := pause(ctx, max(wait, 100*time.Millisecond)-time.Since(asked)); err != nil {
				return nil, err
			}
			continue
		case http.StatusSeeOther:
			return d.get(ctx, r.header.Get("Location"))
		}
		return r, nil
	}
}

func pause(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return ctx.Err()
	}
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
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
