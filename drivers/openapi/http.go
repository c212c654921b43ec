package openapi

import (
	"bytes"
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptrace"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/net/http/httpguts"

	"kasbah/core/driver"
)

// reply is an answer that was read whole.
type reply struct {
	status int
	header http.Header
	body   []byte
	at     *url.URL // what was asked
	asked  string   // the same, for people: method and path
}

// leads is where a reference in an answer leads (RFC 3986, 5.2): relative to what
// was asked, as the base of the API may have a path of its own. "" leads nowhere.
func (r *reply) leads(ref string) string {
	u, err := url.Parse(ref)
	if ref == "" || err != nil {
		return ""
	}
	return r.at.ResolveReference(u).String()
}

// send makes one request. Failures to reach the other side are passing. Only an
// answer of 2xx, or of 303 to what reads, is none: redirects are not followed here, as
// what a write was sent to must be the API itself.
func (d *Driver) send(ctx context.Context, method, path string, header http.Header, body []byte) (*reply, error) {
	base, err := d.base(ctx)
	if err != nil {
		return nil, driver.Unsent(err)
	}
	target := path
	if !strings.Contains(path, "://") {
		target = base + path
	}
	asked := method + " " + path
	if host := d.strange(base, target); host != "" {
		return nil, &driver.Error{Message: fmt.Sprintf("%s would leave the API for %s, which is not asked; hosts = "+
			"[%q] in the driver's settings allows it", asked, host, host)}
	}
	res, err := d.authorized(ctx, method, target, header, body, false)
	// a credential that was good once may have ended
	if err == nil && res.StatusCode == http.StatusUnauthorized && !d.o.Auth.none() {
		res.Body.Close()
		res, err = d.authorized(ctx, method, target, header, body, true)
	}
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	r := &reply{status: res.StatusCode, header: res.Header, at: res.Request.URL, asked: asked}
	if r.body, err = io.ReadAll(io.LimitReader(res.Body, maxAnswer+1)); err != nil &&
		(r.status < 300 || ctx.Err() != nil) {
		return nil, d.unreachable(ctx, asked, err, true)
	}
	if len(r.body) > maxAnswer {
		return nil, &driver.Error{Message: fmt.Sprintf("%s answers more than %d bytes", asked, maxAnswer)}
	}
	switch {
	case r.status >= 400:
		err := refusal(r, d.doc.Refusals, header.Get(d.doc.KeyHeader) != "" ||
			header[strings.ToLower(d.doc.KeyHeader)] != nil)
		var said *driver.Error
		if r.status == http.StatusUnauthorized && errors.As(err, &said) {
			said.Message += "; " + d.o.Auth.refused()
		}
		return r, err
	case r.status >= 300 && (r.status != http.StatusSeeOther || method != http.MethodGet):
		leads := cmp.Or(r.leads(r.header.Get("Location")), "nowhere")
		return r, &driver.Error{Message: fmt.Sprintf("%s answers %d and leads to %s, which is not followed", asked,
			r.status, leads)}
	case r.status < 200:
		return r, &driver.Error{Message: fmt.Sprintf("%s answers %d", asked, r.status)}
	case strings.HasPrefix(r.header.Get("Content-Type"), "text/html") && len(r.body) > 0:
		return r,
			&driver.Error{Message: fmt.Sprintf("%s answers with a page of HTML, which is not an answer of the API",
				asked)}
	}
	return r, nil
}

// strange is the host of a request that is neither the API's own address nor one that the
// settings allow: an answer may lead anywhere, such as to an address that only this machine
// can reach. It is "" for none.
func (d *Driver) strange(base, target string) string {
	home, err1 := url.Parse(base)
	to, err2 := url.Parse(target)
	switch {
	case err1 != nil || err2 != nil:
		return "an address that cannot be read"
	case to.Scheme == home.Scheme && strings.EqualFold(to.Host, home.Host):
		return ""
	case (to.Scheme == "https" || to.Scheme == home.Scheme) && slices.ContainsFunc(d.o.Hosts,
		func(h string) bool { return strings.EqualFold(h, to.Host) }):
		return ""
	}
	return to.Host
}

// unfit is an error for a header that no request can carry: it would never succeed.
func unfit(h http.Header) error {
	for name, values := range h {
		for _, v := range values {
			if !httpguts.ValidHeaderFieldName(name) || !httpguts.ValidHeaderFieldValue(v) {
				return driver.Refuse("the header %s holds a character that no request can carry", strconv.Quote(name))
			}
		}
	}
	return nil
}

// authorized makes one request with credentials; again says that those of before
// were refused. They go to the API alone, wherever it sends us.
func (d *Driver) authorized(ctx context.Context, method, target string, header http.Header, body []byte,
	again bool) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, target, bytes.NewReader(body))
	if err != nil {
		return nil, driver.Unsent(err)
	}
	for k, v := range header {
		req.Header[k] = v
	}
	if d.rate != nil {
		if err := d.rate.Wait(ctx); err != nil {
			return nil, driver.Unsent(cmp.Or(ctx.Err(), err))
		}
	}
	req.Header.Set("Accept", "application/json, application/problem+json")
	if d.o.From != "" {
		req.Header.Set("From", d.o.From)
	}
	base, err := d.base(ctx)
	if err != nil {
		return nil, driver.Unsent(err)
	}
	if home, err := url.Parse(base); err == nil && home.Host == req.URL.Host && home.Scheme == req.URL.Scheme {
		if len(d.query) > 0 {
			q := req.URL.Query()
			for name, values := range d.query {
				q[name] = values
			}
			req.URL.RawQuery = q.Encode()
		}
		if err := d.auth.sign(ctx, req, again); err != nil {
			return nil, driver.Unsent(err)
		}
	}
	for name, values := range d.header {
		if req.Header.Get(name) == "" {
			req.Header[name] = values
		}
	}
	if err := unfit(req.Header); err != nil {
		return nil, err
	}
	var left atomic.Bool // a connection stood, so that some of the request may have left
	req = req.WithContext(httptrace.WithClientTrace(ctx,
		&httptrace.ClientTrace{GotConn: func(httptrace.GotConnInfo) { left.Store(true) }}))
	res, err := d.http.Do(req)
	if err != nil {
		return nil, d.unreachable(ctx, method+" "+req.URL.Path, err, left.Load())
	}
	return res, nil
}

// unreachable is the error of a request that got no answer. left says that it may have
// reached the API.
func (d *Driver) unreachable(ctx context.Context, asked string, err error, left bool) error {
	if ctx.Err() != nil {
		if !left {
			return fmt.Errorf("%w: %w", driver.Refuse("%s was not sent", asked), ctx.Err())
		}
		return ctx.Err()
	}
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err
	}
	var untrusted *tls.CertificateVerificationError
	if errors.As(err, &untrusted) {
		return driver.Refuse("the cloud cannot be trusted: %v; ca names the file of the certificates that are",
			untrusted.Err)
	}
	var dns *net.DNSError
	return &driver.Error{
		Message: fmt.Sprintf("the cloud cannot be reached: %s: %v", asked, err),
		Passing: !errors.As(err, &dns) || dns.IsTemporary, NotDone: !left,
	}
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
	}, backoff.WithMaxTries(readTries),
		backoff.WithBackOff(&backoff.ExponentialBackOff{InitialInterval: 100 * time.Millisecond,
			RandomizationFactor: 0.5, Multiplier: 2, MaxInterval: 5 * time.Second}))
}

// follow is get for what follows an accepted write. It asks until the time of the call
// is up while the fault may pass; anything else gets a few tries, as a new thing may
// take a moment to show.
func (d *Driver) follow(ctx context.Context, path string, header http.Header, sound func(*reply) error) (*reply,
	error) {
	wait, final := newWait(), 0
	for {
		r, err := d.send(ctx, http.MethodGet, path, header, nil)
		if err == nil {
			err = sound(r)
			if err == nil {
				return r, nil
			}
		}
		passing, after := driver.IsPassing(err)
		if final++; ctx.Err() != nil || !passing && final >= readTries {
			return r, err
		}
		if stop := pause(ctx, max(after, wait.next())); stop != nil {
			return r, errors.Join(err, stop)
		}
	}
}
