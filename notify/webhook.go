package notify

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"kasbah/core/alert"
)

// Webhook posts events to an address.
type Webhook struct {
	Filter
	Source
	Called string
	// URL and Sign fetch the address and the key of the signature (Standard Webhooks); Sign is nil for none.
	// Neither is shown.
	URL, Sign func(ctx context.Context) (string, error)
	Transport http.RoundTripper
}

// Name is what kasbah.toml calls it.
func (h *Webhook) Name() string { return h.Called }

// answered is how much of an answer is read, in bytes.
const answered = 64 << 10

// Send posts an event. It is an error unless the answer is one of 200 to 299; a redirect is not followed.
func (h *Webhook) Send(ctx context.Context, m *alert.Message) error {
	body, err := h.encode(m)
	if err != nil {
		return err
	}
	to, err := h.URL(ctx)
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(body))
	if err != nil || r.URL.Scheme != "http" && r.URL.Scheme != "https" || r.URL.Host == "" {
		return errors.New("its url is none of http or https") // which may be a secret
	}
	r.Header.Set("Content-Type", "application/cloudevents+json; charset=utf-8")
	r.Header.Set("User-Agent", "kasbah")
	if h.Sign != nil {
		key, err := h.Sign(ctx)
		if err != nil {
			return err
		}
		signer, err := standardwebhooks.NewWebhook(key)
		if err != nil {
			return errors.New("its key to sign with must be whsec_ and Base64")
		}
		now := time.Now()
		sig, err := signer.Sign(m.ID, now, body)
		if err != nil {
			return err
		}
		r.Header.Set(standardwebhooks.HeaderWebhookID, m.ID)
		r.Header.Set(standardwebhooks.HeaderWebhookTimestamp, fmt.Sprint(now.Unix()))
		r.Header.Set(standardwebhooks.HeaderWebhookSignature, sig)
	}
	c := http.Client{Transport: h.Transport, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err := c.Do(r)
	if err != nil {
		var at *url.Error
		if errors.As(err, &at) { // which would show the address
			err = at.Err
		}
		return fmt.Errorf("%s cannot be reached: %w", r.URL.Hostname(), err)
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, answered) // so that the connection can be used again
	switch {
	case answer.StatusCode >= 300 && answer.StatusCode < 400:
		return fmt.Errorf("%s answers %s, and events are sent nowhere else", r.URL.Hostname(), answer.Status)
	case answer.StatusCode < 200 || answer.StatusCode > 299:
		return fmt.Errorf("%s answers %s", r.URL.Hostname(), answer.Status)
	}
	return nil
}
