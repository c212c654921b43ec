package openapi

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/time/rate"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Options of a driver.
type Options struct {
	Document []byte   // OpenAPI 3.0 or 3.1, JSON or YAML
	Overlays [][]byte // OpenAPI Overlays that are laid over it, in order
	Cache    string   // a folder in which what is used of a large document is kept; "" for none
	// Base finds the URL that paths are below. It is called once, at the
	// first request, and may start a server.
	Base func(context.Context) (string, error)
	// From names the person or program that acts (RFC 9110, 10.1.2).
	From string
	Auth Auth
	// Settings are what x-kasbah calls settings of the driver, such as what fills a path.
	Settings map[string]string
	Rate     float64 // requests a second at most; 0 for what the document says
	// Limit makes what keeps to so many requests a second; nil for Limit. Several drivers of one API may share it.
	Limit  func(perSecond float64) *rate.Limiter
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
	o      Options
	doc    *document
	http   *http.Client
	auth   *authorizer
	rate   *rate.Limiter // nil for no bound
	query  url.Values    // what every request has besides
	header http.Header
	wholes *sync.Map // of paths to channels that let one through at a time
	base   func(context.Context) (string, error)
}

var (
	_ driver.Driver  = (*Driver)(nil)
	_ driver.Feed    = (*Driver)(nil)
	_ driver.Copier  = (*Driver)(nil)
	_ driver.Locator = (*Driver)(nil)
)

func (o *Options) setting(name string) (string, bool) {
	v, ok := o.Settings[name]
	return v, ok
}

// New reads the document. No request is made yet.
func New(o Options) (*Driver, error) {
	doc, err := load(o.Cache, o.Document, o.Overlays, o.setting)
	if err != nil {
		return nil, err
	}
	d, err := newDriver(o, doc)
	if err != nil {
		return nil, err
	}
	for name := range o.Settings {
		if !slices.Contains(doc.named, name) {
			return nil, &UnknownSettingError{Name: name, Known: doc.named}
		}
	}
	return d, nil
}

// Limit makes a limiter of so many requests a second.
func Limit(perSecond float64) *rate.Limiter {
	return rate.NewLimiter(rate.Limit(perSecond), max(1, int(perSecond)))
}

func newDriver(o Options, doc *document) (*Driver, error) {
	d := &Driver{o: o, doc: doc, http: o.Client, wholes: &sync.Map{}}
	if err := d.constants(); err != nil {
		return nil, err
	}
	if d.http == nil {
		transport := http.DefaultTransport.(*http.Transport).Clone()
		transport.MaxIdleConnsPerHost = 64
		d.http = &http.Client{Transport: transport}
	}
	follow := *d.http
	follow.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	d.http = &follow
	d.auth = &authorizer{auth: o.Auth, http: d.http}
	if o.Limit == nil {
		o.Limit = Limit
	}
	if n := cmp.Or(o.Rate, doc.Rate); n > 0 {
		d.rate = o.Limit(n)
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

// UnknownSettingError is returned for a setting that the document names nowhere.
type UnknownSettingError struct {
	Name  string
	Known []string // those that it names
}

func (e *UnknownSettingError) Error() string {
	return fmt.Sprintf("there is no setting %q, and the document names none of that name", e.Name)
}

// constants are what every request has besides.
func (d *Driver) constants() error {
	value := func(name string, from source) (string, error) {
		if from.Setting == "" {
			return from.Value, nil
		}
		return d.doc.setting(from.Setting)
	}
	d.query, d.header = url.Values{}, http.Header{}
	for name, from := range d.doc.Query {
		v, err := value(name, from)
		if err != nil {
			return err
		}
		d.query.Set(name, v)
	}
	for name, from := range d.doc.Headers {
		v, err := value(name, from)
		if err != nil {
			return err
		}
		d.header.Set(name, v)
	}
	return nil
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
	if t.gone != nil && slices.Contains(t.gone.Values, text(dig(m, t.gone.At))) {
		return driver.Live{}, driver.ErrGone
	}
	own := text(m[t.ID])
	if own == "" {
		return driver.Live{}, &driver.Error{Message: fmt.Sprintf("the cloud shows %s without %s",
			schema.WithArticle(t.Name), t.ID)}
	}
	values, err := within(t.item.params[:len(t.item.params)-1], m)
	if err != nil {
		return driver.Live{}, &driver.Error{Message: fmt.Sprintf("the cloud shows %s, and %v",
			schema.WithArticle(t.Name), err)}
	}
	if strings.HasPrefix(tag, "W/") { // If-Match takes no weak one (RFC 9110, 13.1.1)
		tag = ""
	}
	if t.tag != "" {
		if tag == "" {
			tag = quoted(text(m[t.tag]))
		}
		delete(m, t.tag)
	}
	for name, v := range m {
		if slices.Contains(t.ignored, name) {
			delete(m, name)
			continue
		}
		// a cloud should not show a secret that it was given; one that does is not listened to
		switch a := t.Attribute(name); {
		case v == nil || a != nil && a.Secret && !a.Output:
			delete(m, name)
		case a != nil:
			m[name] = a.Shown(v)
		}
	}
	return driver.Live{ID: t.identity(append(values, own)), Tag: tag, Attributes: m}, nil
}

// quoted is an entity tag as its header writes it (RFC 9110, 8.8.3).
func quoted(tag string) string { return `"` + tag + `"` }

func (t described) reply(r *reply, known value.Map) (driver.Live, error) {
	m, err := t.object(r.body)
	if err != nil {
		return driver.Live{}, &driver.Error{Message: fmt.Sprintf("%s: %v", r.asked, err)}
	}
	return t.live(m, r.header.Get("ETag"), known)
}

// object reads the thing of an answer. Some answers have it in an envelope and others of the
// same API have not.
func (t described) object(body []byte) (value.Map, error) {
	m, err := object(body, t.In)
	if err == nil || t.In == nil {
		return m, err
	}
	if bare, e := object(body, nil); e == nil && text(bare[t.ID]) != "" {
		return bare, nil
	}
	return m, err
}

// object reads the object of an answer, which may stand inside of another one.
func object(body []byte, in *string) (value.Map, error) {
	v, err := value.Parse(body)
	if err == nil && in != nil {
		v = dig(v, *in)
	}
	m, ok := v.(map[string]any)
	if err != nil || !ok {
		switch {
		case err == nil && in != nil && *in != "":
			return nil, &driver.Error{Message: fmt.Sprintf("the cloud's answer has no JSON object at %s", *in)}
		case err == nil: // what JSON holds may be secret
			return nil, &driver.Error{Message: "the cloud's answer is not a JSON object but " +
				schema.WithArticle(value.Kind(v))}
		}
		return nil, &driver.Error{Message: "the cloud's answer is not a JSON object: it begins with " + beginning(body)}
	}
	return m, nil
}

// beginning is how an answer begins, for people.
func beginning(body []byte) string {
	const shown = 80
	if len(body) > shown {
		body = body[:shown]
	}
	return strconv.Quote(strings.ToValidUTF8(string(body), ""))
}

// steps are the parts of a place in a value: a JSON pointer (RFC 6901), or names and
// numbers with dots between them.
func steps(place string) []string {
	switch {
	case place == "":
		return nil
	case strings.HasPrefix(place, "/"):
		parts := strings.Split(place[1:], "/")
		for i := range parts {
			parts[i] = unescape(parts[i])
		}
		return parts
	}
	return strings.Split(place, ".")
}

// dig finds what is at a place; nil where there is nothing.
func dig(v any, place string) any {
	for _, step := range steps(place) {
		switch in := v.(type) {
		case map[string]any:
			v = in[step]
		case []any:
			i, err := strconv.Atoi(step)
			if err != nil || i < 0 || i >= len(in) {
				return nil
			}
			v = in[i]
		default:
			return nil
		}
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

// unshown is the error of asking for what the API shows nothing of.
func (t described) unshown() error {
	return driver.Refuse("the API shows no things of type %s", t.Name)
}

func (d *Driver) read(ctx context.Context, t described, id string) (driver.Live, error) {
	if err := ctx.Err(); err != nil {
		return driver.Live{}, err
	}
	if t.Unshown {
		return driver.Live{}, t.unshown()
	}
	place, err := t.place(id)
	if err != nil {
		return driver.Live{}, fmt.Errorf("%w: %w", driver.ErrGone, err)
	}
	known, err := t.known(id)
	if err != nil {
		return driver.Live{}, err
	}
	if t.whole != nil || t.Read == "list" { // nothing reads one alone
		for l, err := range d.listed(ctx, t.Name, known, nil) {
			if err != nil || l.ID == id {
				return l, err
			}
		}
		return driver.Live{}, driver.ErrGone
	}
	r, err := d.get(ctx, place)
	if err != nil {
		return driver.Live{}, err
	}
	return t.reply(r, known)
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
	of := subject{known: known, made: true}
	method, place := http.MethodPost, t.list.fill(values[:len(t.list.params)])
	if t.create == "put" {
		all, err := within(t.item.params[:len(t.item.params)-1], inputs)
		if err == nil && inputs[t.ID] == nil {
			err = fmt.Errorf("%s is not known, which its path needs", t.ID)
		}
		if err != nil {
			return driver.Live{}, driver.Unsent(err)
		}
		all = append(all, text(inputs[t.ID]))
		method, place, of.id = http.MethodPut, t.item.fill(all), t.identity(all)
	}
	if t.whole != nil {
		return d.putPart(ctx, t, values[:len(t.list.params)], known, inputs, "", true)
	}
	header := d.headers("", key)
	if method == http.MethodPut {
		header.Set("If-None-Match", "*") // RFC 9110, 13.1.2: it makes one and replaces none
	}
	return d.write(ctx, t, method, place, header, t.makes, t.body(t.makes, inputs), of)
}

// body is what is sent of some inputs: all but what is in the path only.
func (t described) body(media string, inputs value.Map) []byte {
	out := value.Map{}
	for k, v := range inputs {
		if !slices.Contains(t.bare, k) {
			out[k] = v
		}
	}
	var sent any = out
	if t.SentIn != nil && *t.SentIn != "" {
		names := steps(*t.SentIn)
		slices.Reverse(names)
		for _, n := range names {
			sent = value.Map{n: sent}
		}
	}
	if media == formType {
		form := url.Values{}
		fillForm(form, "", sent)
		return []byte(form.Encode())
	}
	return value.JSON(sent)
}

// fillForm writes a value as a form has it: what is nested is in brackets, as in
// lamp[colour]=red and hours[]=8. What is to be taken away is empty.
func fillForm(form url.Values, at string, v any) {
	switch v := v.(type) {
	case map[string]any:
		if len(v) == 0 && at != "" {
			form.Add(at, "")
		}
		for _, k := range value.Keys(v) {
			name := k
			if at != "" {
				name = at + "[" + k + "]"
			}
			fillForm(form, name, v[k])
		}
	case []any:
		if len(v) == 0 {
			form.Add(at, "")
		}
		for i, x := range v {
			name := at + "[]"
			if _, nested := x.(map[string]any); nested {
				name = at + "[" + strconv.Itoa(i) + "]"
			}
			fillForm(form, name, x)
		}
	default:
		form.Add(at, text(v))
	}
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
	return d.write(ctx, t, http.MethodPost, place+"/"+t.copies, d.headers("", key), "application/json", []byte("{}"),
		subject{known: known, made: true})
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
	if t.whole != nil {
		return d.dropPart(ctx, t, id)
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
	if t.Unshown {
		return nil
	}
	if t.Status != nil || r.status == http.StatusAccepted {
		return d.vanish(ctx, t, id)
	}
	return nil
}
