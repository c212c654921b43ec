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
	"net/url"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"kasbah/driver"
)

// reply is an answer that was read whole.
type reply struct {
	status int
	header http.Header
	body   []byte
	at     *url.URL // what was asked
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
	res, err := d.authorized(ctx, method, target, header, body, false)
	if err == nil && res.StatusCode == http.StatusUnauthorized && !d.o.Auth.none() { // a credential that was good once may have ended
		res.Body.Close()
		res, err = d.authorized(ctx, method, target, header, body, true)
	}
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer+1))
	if err != nil {
		return nil, d.unreachable(ctx, err)
	}
	if len(raw) > maxAnswer {
		return nil, &driver.Error{Message: fmt.Sprintf("%s %s answers more than %d bytes", method, path, maxAnswer)}
	}
	r := &reply{status: res.StatusCode, header: res.Header, body: raw, at: res.Request.URL}
	if r.status >= 400 {
		err := refusal(r, d.doc.Refusals)
		var said *driver.Error
		if r.status == http.StatusUnauthorized && errors.As(err, &said) {
			said.Message += "; " + d.o.Auth.refused()
		}
		return r, err
	}
	return r, nil
}

// authorized makes one request with credentials; again says that those of before
// were refused. They go to the API alone, wherever it sends us.
func (d *Driver) authorized(ctx context.Context, method, target string, header http.Header, body []byte, again bool) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, target, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	for k, v := range header {
		req.Header[k] = v
	}
	if d.rate != nil {
		if err := d.rate.Wait(ctx); err != nil {
			return nil, cmp.Or(ctx.Err(), err)
		}
	}
	req.Header.Set("Accept", "application/json, application/problem+json")
	if d.o.From != "" {
		req.Header.Set("From", d.o.From)
	}
	base, err := d.base(ctx)
	if err != nil {
		return nil, err
	}
	if home, err := url.Parse(base); err == nil && home.Host == req.URL.Host && home.Scheme == req.URL.Scheme {
		if err := d.auth.sign(ctx, req, again); err != nil {
			return nil, err
		}
	}
	res, err := d.http.Do(req)
	if err != nil {
		return nil, d.unreachable(ctx, err)
	}
	return res, nil
}

func (d *Driver) unreachable(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err
	}
	var untrusted *tls.CertificateVerificationError
	if errors.As(err, &untrusted) {
		return &driver.Error{Message: fmt.Sprintf("the cloud cannot be trusted: %v; ca names the file of the certificates that are", untrusted.Err)}
	}
	var dns *net.DNSError
	var dial *net.OpError
	return &driver.Error{
		Message: "the cloud cannot be reached: " + err.Error(), Passing: !errors.As(err, &dns) || dns.IsTemporary,
		Unclear: !errors.As(err, &dns) && (!errors.As(err, &dial) || dial.Op != "dial"), // it heard nothing where it was not even reached
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
	}, backoff.WithMaxTries(readTries), backoff.WithBackOff(&backoff.ExponentialBackOff{InitialInterval: 100 * time.Millisecond, RandomizationFactor: 0.5, Multiplier: 2, MaxInterval: 5 * time.Second}))
}
