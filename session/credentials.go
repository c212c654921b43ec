package session

import (
	"context"
	"errors"
	"fmt"

	"kasbah/core/estate"
	"kasbah/core/value"
	"kasbah/drivers/openapi"
)

// Credential reads a credential: a text, or where one is to be had.
func (x *Secrets) Credential(name string, v any) (openapi.Credential, error) {
	if text, ok := v.(string); ok && text != "" {
		return func(context.Context, bool) (string, error) { return text, nil }, nil
	}
	src, ok := estate.ReadSource(v)
	if !ok {
		return nil, fmt.Errorf("%s must be a text, or one of { env = \"…\" }, { key = \"…\" }, { file = \"…\" }, { "+
			"run = […] }", name)
	}
	return func(ctx context.Context, _ bool) (string, error) {
		text, err := x.Fetch(ctx, src)
		if err != nil {
			return "", fmt.Errorf("%s: %w", name, err)
		}
		return text, nil
	}, nil
}

// auth reads how a driver says who asks.
func (x *Secrets) auth(s value.Map) (out openapi.Auth, err error) {
	ways := 0
	if v, ok := s["bearer"]; ok {
		ways++
		if out.Bearer, err = x.Credential("bearer", v); err != nil {
			return out, err
		}
	}
	_, user := s["user"]
	if v, ok := s["password"]; ok || user {
		ways++
		if out.User, user = s["user"].(string); !user || !ok {
			return out, errors.New("user and password go together")
		}
		if out.Password, err = x.Credential("password", v); err != nil {
			return out, err
		}
	}
	if v, ok := s["oauth"]; ok {
		ways++
		if out.OAuth, err = x.oauth(v); err != nil {
			return out, err
		}
	}
	if ways > 1 {
		return out, errors.New("it takes one of bearer, user with password, and oauth")
	}
	if v, ok := s["headers"]; ok {
		m, ok := v.(map[string]any)
		if !ok {
			return out, errors.New(`headers must be a table, such as { X-Key = { env = "COAST_KEY" } }`)
		}
		out.Headers = map[string]openapi.Credential{}
		for _, name := range value.Keys(m) {
			if out.Headers[name], err = x.Credential("headers."+name, m[name]); err != nil {
				return out, err
			}
		}
	}
	return out, nil
}

func (x *Secrets) oauth(v any) (*openapi.OAuth, error) {
	m, ok := v.(map[string]any)
	if !ok {
		return nil, errors.New("oauth must be a table with url, client, secret and scopes")
	}
	if err := known("oauth", m, []string{"url", "client", "secret", "scopes"}); err != nil {
		return nil, err
	}
	o := &openapi.OAuth{}
	o.URL, _ = m["url"].(string)
	o.Client, _ = m["client"].(string)
	if o.URL == "" || o.Client == "" || m["secret"] == nil {
		return nil, errors.New("oauth needs url (of the token endpoint), client and secret")
	}
	scopes, _ := m["scopes"].([]any)
	for _, s := range scopes {
		o.Scopes = append(o.Scopes, value.Plain(s))
	}
	var err error
	o.Secret, err = x.Credential("oauth.secret", m["secret"])
	return o, err
}
