package medina

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"

	"kasbah/transport"
)

// What is asked of Medina about itself, beside its things.

// client makes requests to the API.
func (s Settings) client() (*http.Client, error) {
	t, err := transport.New(transport.Options{CA: s.CA})
	if err != nil {
		return nil, err
	}
	t.MaxIdleConnsPerHost = 64
	return &http.Client{Transport: t}, nil
}

// call makes one request that is about Medina itself, and reads its answer into an
// object, or where into is a writer, copies it there.
func (s Settings) call(ctx context.Context, method, path string, body io.Reader, into any) (err error) {
	s.own()
	start, stop := s.base()
	defer func() { err = errors.Join(err, stop()) }()
	base, err := start(ctx)
	if err != nil {
		return err
	}
	client, err := s.client()
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, method, base+path, body)
	if err != nil {
		return err
	}
	if s.Token != nil {
		token, err := s.Token(ctx, false)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+token)
	}
	res, err := client.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		var answer struct{ Detail string }
		if err := json.NewDecoder(io.LimitReader(res.Body, maxBody)).Decode(&answer); err != nil {
			return fmt.Errorf("%s%s does not answer as Medina does: %s", base, path, res.Status)
		}
		return Refused(answer.Detail)
	}
	switch into := into.(type) {
	case nil:
		return nil
	case io.Writer:
		_, err = io.Copy(into, res.Body)
		return err
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, 64*maxBody)).Decode(into); err != nil {
		return fmt.Errorf("%s%s does not answer as Medina does: %w", base, path, err)
	}
	return nil
}

// Refused is what Medina says when it refuses something that is about itself.
type Refused string

// Error says why.
func (e Refused) Error() string { return string(e) }

// Faults lists the faults that a Medina is still to make, after clearing them
// and adding one where that is asked for.
func (s Settings) Faults(ctx context.Context, clear bool, add *Fault) ([]Fault, error) {
	var answer struct{ Items []Fault }
	if clear {
		if err := s.call(ctx, http.MethodDelete, "/faults", nil, &answer); err != nil {
			return nil, err
		}
	}
	if add != nil {
		body, err := json.Marshal(add)
		if err != nil {
			return nil, err
		}
		err = s.call(ctx, http.MethodPost, "/faults", bytes.NewReader(body), &answer)
		return answer.Items, err
	}
	if clear {
		return answer.Items, nil
	}
	err := s.call(ctx, http.MethodGet, "/faults", nil, &answer)
	return answer.Items, err
}

// ListTokens lists the tokens of a Medina.
func (s Settings) ListTokens(ctx context.Context) ([]Token, error) {
	var answer struct{ Items []Token }
	err := s.call(ctx, http.MethodGet, "/tokens", nil, &answer)
	return answer.Items, err
}

// NewToken makes a token; what is returned has its text, which is never shown again.
func (s Settings) NewToken(ctx context.Context, t Token) (Token, error) {
	body, err := json.Marshal(t)
	if err != nil {
		return t, err
	}
	err = s.call(ctx, http.MethodPost, "/tokens", bytes.NewReader(body), &t)
	return t, err
}

// RevokeToken takes a token away.
func (s Settings) RevokeToken(ctx context.Context, name string) error {
	return s.call(ctx, http.MethodDelete, "/tokens/"+url.PathEscape(name), nil, nil)
}

// Snapshot writes all that a Medina holds, but for tokens.
func (s Settings) Snapshot(ctx context.Context, into io.Writer) error {
	return s.call(ctx, http.MethodGet, "/snapshot", nil, into)
}

// Reset empties a Medina, or puts what a snapshot holds in the place of everything.
func (s Settings) Reset(ctx context.Context, snapshot io.Reader) error {
	if snapshot == nil {
		return s.call(ctx, http.MethodDelete, "/things", nil, nil)
	}
	return s.call(ctx, http.MethodPost, "/snapshot", snapshot, nil)
}
