package openapi

import (
	"cmp"
	"context"
	"fmt"
	"iter"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"

	"golang.org/x/time/rate"

	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/driver"
)

// Options of a driver.
type Options struct {
	Document []byte   // OpenAPI 3.0 or 3.1, JSON or YAML
	Overlays [][]byte // OpenAPI Overlays that are laid over it, in order
	// Base finds the URL that paths are below. It is called once, at the
	// first request, and may start a server.
	Base func(context.Context) (string, error)
	// From names the person or program that acts (RFC 9110, 10.1.2).
	From   string
	Auth   Auth
	Rate   float64      // requests a second at most; 0 for what the document says
	Hosts  []string     // besides the API's own, to which its answers may lead: links, redirects and work to follow
	Client *http.Client // nil for one of its own
	Close  func() error // ends what Base started; may be nil
}

const (
	maxAnswer = 64 << 20 // bytes of one answer
	maxPages  = 1_000_000
	readTries = 5
	atOnce    = 8 // lists that are read side by side, where each parent has its own
)

// Driver is a driver for a described API.
type Driver struct {
	o    Options
	doc  *document
	http *http.Client
	auth *authorizer
	rate *rate.Limiter // nil for no bound
	base func(context.Context) (string, error)
}

var (
	_ driver.Driver  = (*Driver)(nil)
	_ driver.Feed    = (*Driver)(nil)
	_ driver.Copier  = (*Driver)(nil)
	_ driver.Locator = (*Driver)(nil)
)

// New reads the document. No request is made yet.
func New(o Options) (*Driver, error) {
	doc, err := parse(o.Document, o.Overlays, true)
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
	if n := cmp.Or(o.Rate, doc.Rate); n > 0 {
		d.rate = rate.NewLimiter(rate.Limit(n), max(1, int(n)))
	}
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

// Close ends idle connections and what Base started.
func (d *Driver) Close() error {
	d.http.CloseIdleConnections()
	if d.o.Close != nil {
		return d.o.Close()
	}
	return nil
}

// described is a type with how its things are reached.
type described struct {
	*schema.Type
	*typeInfo
}

func (d *Driver) typ(name string) (described, error) {
	t := described{d.doc.catalog.Types[name], d.doc.types[name]}
	if t.Type == nil {
		return t, driver.Refuse("the API has no type %q", name)
	}
	return t, nil
}

// live reads a thing out of a JSON object. tag is the ETag header, or "", and
// known what the path says that it was found under.
func (t described) live(m value.Map, tag string, known value.Map) (driver.Live, error) {
	for k, v := range known {
		if m[k] == nil {
			m[k] = v
		}
	}
	own := text(m[t.ID])
	if own == "" {
		return driver.Live{}, &driver.Error{Message: fmt.Sprintf("the cloud shows %s without %s", schema.A(t.Name), t.ID)}
	}
	values, err := within(t.item.params[:len(t.item.params)-1], m)
	if err != nil {
		return driver.Live{}, &driver.Error{Message: fmt.Sprintf("the cloud shows %s, and %v", schema.A(t.Name), err)}
	}
	if t.tag != "" {
		if tag == "" {
			tag = quoted(text(m[t.tag]))
		}
		delete(m, t.tag)
	}
	for name, v := range m {
		// a cloud should not show a secret that it was given; one that does is not listened to
		switch a := t.Attribute(name); {
		case v == nil || a != nil && a.Secret && !a.Output:
			delete(m, name)
		case a != nil:
			m[name] = a.Canonical(v)
		}
	}
	return driver.Live{ID: t.identity(append(values, own)), Tag: tag, Attributes: m}, nil
}

// quoted is an entity tag as its header writes it (RFC 9110, 8.8.3).
func quoted(tag string) string { return `"` + tag + `"` }

func (t described) reply(r *reply, known value.Map) (driver.Live, error) {
	m, err := object(r.body, t.In)
	if err != nil {
		return driver.Live{}, err
	}
	return t.live(m, r.header.Get("ETag"), known)
}

// object reads the object of an answer, which may stand inside of another one.
func object(body []byte, in *string) (value.Map, error) {
	v, err := value.Parse(body)
	if err == nil && in != nil {
		v = dig(v, *in)
	}
	m, ok := v.(map[string]any)
	if err != nil || !ok {
		return nil, &driver.Error{Message: "the cloud's answer is no JSON object"}
	}
	return m, nil
}

// dig finds what stands at a path of names with dots between them; nil where
// there is nothing.
func dig(v any, path string) any {
	if path == "" {
		return v
	}
	for _, name := range strings.Split(path, ".") {
		m, _ := v.(map[string]any)
		v = m[name]
	}
	return v
}

// known are the attributes that the path of a thing tells.
func (t described) known(id string) (value.Map, error) {
	parts, err := t.parts(id)
	if err != nil {
		return nil, err
	}
	out := value.Map{}
	for i, p := range t.item.params[:len(parts)-1] {
		out[p] = typed(t.Attribute(p), parts[i])
	}
	return out, nil
}

// Read reads one thing.
func (d *Driver) Read(ctx context.Context, typ, id string) (driver.Live, error) {
	t, err := d.typ(typ)
	if err != nil {
		return driver.Live{}, err
	}
	return d.read(ctx, t, id)
}

func (d *Driver) read(ctx context.Context, t described, id string) (driver.Live, error) {
	if err := ctx.Err(); err != nil {
		return driver.Live{}, err
	}
	place, err := t.place(id)
	if err != nil {
		return driver.Live{}, fmt.Errorf("%w: %w", driver.ErrGone, err)
	}
	known, err := t.known(id)
	if err != nil {
		return driver.Live{}, err
	}
	r, err := d.get(ctx, place)
	if err != nil {
		return driver.Live{}, err
	}
	return t.reply(r, known)
}

// List reads a type's pages. The next page is fetched while the caller works
// on this one; where each parent has a list of its own, some are read at a
// time.
func (d *Driver) List(ctx context.Context, typ string) iter.Seq2[driver.Live, error] {
	return d.listed(ctx, typ, nil, nil)
}

// listed lists things: below one parent where the values of its path are known,
// and those that a query asks for.
func (d *Driver) listed(ctx context.Context, typ string, match value.Map, query url.Values) iter.Seq2[driver.Live, error] {
	return func(yield func(driver.Live, error) bool) {
		t, err := d.typ(typ)
		if err != nil {
			yield(driver.Live{}, err)
			return
		}
		if t.parent == "" {
			d.collection(ctx, t, nil, query)(yield)
			return
		}
		if values, err := within(t.list.params, match); err == nil {
			for l, err := range d.collection(ctx, t, values, query) {
				if gone(err) { // so is all that was in it
					return
				}
				if !yield(l, err) {
					return
				}
			}
			return
		}
		d.below(ctx, t, query, yield)
	}
}

// below lists the things of all parents, whose lists are read some at a time
// and told in the parents' order.
func (d *Driver) below(ctx context.Context, t described, query url.Values, yield func(driver.Live, error) bool) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type part struct {
		things []driver.Live
		err    error
	}
	coming := make(chan chan part, atOnce)
	go func() {
		defer close(coming)
		for p, err := range d.List(ctx, t.parent) {
			c := make(chan part, 1)
			select {
			case coming <- c:
			case <-ctx.Done():
				return
			}
			var values []string
			if err == nil {
				values, err = within(t.above, p.Attributes)
			}
			if err != nil {
				c <- part{err: err}
				return
			}
			go func() {
				var out part
				for l, err := range d.collection(ctx, t, values, query) {
					if gone(err) { // deleted while we look
						break
					}
					if out.err = err; err != nil {
						break
					}
					out.things = append(out.things, l)
				}
				c <- out
			}()
		}
	}()
	for c := range coming {
		p := <-c
		for _, l := range p.things {
			if !yield(l, nil) {
				return
			}
		}
		if p.err != nil {
			yield(driver.Live{}, p.err)
			return
		}
	}
	if err := ctx.Err(); err != nil {
		yield(driver.Live{}, err)
	}
}

// collection lists what one path holds.
func (d *Driver) collection(ctx context.Context, t described, values []string, query url.Values) iter.Seq2[driver.Live, error] {
	known := value.Map{}
	for i, p := range t.list.params {
		known[p] = typed(t.Attribute(p), values[i])
	}
	return func(yield func(driver.Live, error) bool) {
		d.pages(ctx, t.list.fill(values), query, t.Pages, nil, func(i item) bool {
			l, err := t.live(i.whole, "", known)
			return yield(l, err) && err == nil
		}, func(err error) { yield(driver.Live{}, err) })
	}
}

// Find lists and compares; a name is asked for where the API can.
func (d *Driver) Find(ctx context.Context, typ string, match value.Map) ([]driver.Live, error) {
	t, err := d.typ(typ)
	if err != nil {
		return nil, err
	}
	var query url.Values
	if name, ok := match["name"].(string); ok && t.byName {
		query = url.Values{"name": {name}}
	}
	return driver.Among(d.listed(ctx, typ, match, query), match)
}

// Locate finds what a key made, where the document says how to ask for it.
func (d *Driver) Locate(ctx context.Context, typ, key string) (driver.Live, error) {
	t, err := d.typ(typ)
	if err != nil {
		return driver.Live{}, err
	}
	if t.locate == "" {
		return driver.Live{}, fmt.Errorf("the API cannot tell what a key made")
	}
	for l, err := range d.listed(ctx, typ, nil, url.Values{t.locate: {key}}) {
		return l, err
	}
	return driver.Live{}, driver.ErrGone
}

// Create makes a thing and waits until it is there.
func (d *Driver) Create(ctx context.Context, typ string, inputs value.Map, key string) (driver.Live, error) {
	t, err := d.typ(typ)
	if err != nil {
		return driver.Live{}, err
	}
	values, err := within(t.parentParams(), inputs)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	known := value.Map{}
	for i, p := range t.parentParams() {
		known[p] = typed(t.Attribute(p), values[i])
	}
	method, place := http.MethodPost, t.list.fill(values[:len(t.list.params)])
	if t.create == "put" {
		all, err := within(t.item.params[:len(t.item.params)-1], inputs)
		if err == nil && inputs[t.ID] == nil {
			err = fmt.Errorf("%s is not known, which its path needs", t.ID)
		}
		if err != nil {
			return driver.Live{}, driver.Unsent(err)
		}
		method, place = http.MethodPut, t.item.fill(append(all, text(inputs[t.ID])))
	}
	header := d.headers("", key)
	if method == http.MethodPut {
		header.Set("If-None-Match", "*") // RFC 9110, 13.1.2: it makes one and replaces none
	}
	return d.write(ctx, t, method, place, header, t.makes, t.body(inputs), known, "")
}

// body is what is sent of some inputs: all but what stands in the path only.
func (t described) body(inputs value.Map) []byte {
	out := value.Map{}
	for k, v := range inputs {
		if !slices.Contains(t.bare, k) {
			out[k] = v
		}
	}
	var sent any = out
	if t.SentIn != nil && *t.SentIn != "" {
		names := strings.Split(*t.SentIn, ".")
		slices.Reverse(names)
		for _, n := range names {
			sent = value.Map{n: sent}
		}
	}
	return value.JSON(sent)
}

// Copy makes a copy of a thing and waits until it is there.
func (d *Driver) Copy(ctx context.Context, typ, id, key string) (driver.Live, error) {
	t, err := d.typ(typ)
	if err != nil {
		return driver.Live{}, err
	}
	if t.copies == "" {
		return driver.Live{}, driver.Refuse("the API cannot copy things of type %s", typ)
	}
	place, err := t.place(id)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	known, err := t.known(id)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	return d.write(ctx, t, http.MethodPost, place+"/"+t.copies, d.headers("", key), "application/json", []byte("{}"), known, "")
}

// Delete deletes a thing and waits until it is gone.
func (d *Driver) Delete(ctx context.Context, typ, id, tag, key string) error {
	t, err := d.typ(typ)
	if err != nil {
		return err
	}
	place, err := t.place(id)
	if err != nil {
		return fmt.Errorf("%w: %w", driver.ErrGone, err)
	}
	r, err := d.send(ctx, http.MethodDelete, place, d.headers(tag, key), nil)
	if err != nil {
		return err
	}
	return accepted(d.deleted(ctx, t, r, id), "")
}

// deleted follows an accepted deletion until the thing is gone.
func (d *Driver) deleted(ctx context.Context, t described, r *reply, id string) error {
	if t.follows(r) && t.Work.place(r) != "" {
		_, err := d.settle(ctx, t.Work, r)
		if !gone(err) {
			return err
		}
		return d.vanish(ctx, t, id) // the work is not to be found any more; the thing tells
	}
	if t.Status != nil || r.status == http.StatusAccepted {
		return d.vanish(ctx, t, id)
	}
	return nil
}
