package openapi

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/cenkalti/backoff/v5"

	"kasbah/core/value"
	"kasbah/driver"
)

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
	r := &reply{status: res.StatusCode, header: res.Header, body: raw}
	if r.status >= 400 {
		return r, refusal(r)
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
	var dns *net.DNSError
	var dial *net.OpError
	return &driver.Error{
		Message: "the cloud cannot be reached: " + err.Error(), Passing: !errors.As(err, &dns) || dns.IsTemporary,
		Unclear: !errors.As(err, &dns) && (!errors.As(err, &dial) || dial.Op != "dial"), // it heard nothing where it was not even reached
	}
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
	e.Unclear = r.status == http.StatusBadGateway || r.status == http.StatusGatewayTimeout
	e.SlowDown = r.status == http.StatusTooManyRequests || r.status == http.StatusServiceUnavailable && e.After > 0
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
	v, err := value.Parse(body)
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
