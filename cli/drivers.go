package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"

	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/value"
	"kasbah/driver"
	"kasbah/driver/openapi"
	"kasbah/driver/process"
	"kasbah/transport"
)

// driverSetting is what a driver gets to know besides its settings.
type driverSetting struct {
	p    *project
	name string // as kasbah.toml calls it
	from string // who acts
	log  func(line string)
}

// driverLog is where the lines go that a driver's program logs; nil for nowhere.
func (a *app) driverLog() func(string) {
	if !a.verbose {
		return nil
	}
	return func(line string) { a.say("%s", line) }
}

// driverKinds are the kinds of drivers that kasbah.toml may name.
var driverKinds = map[string]func(at driverSetting, s value.Map) (driver.Driver, error){
	"medina": func(at driverSetting, s value.Map) (driver.Driver, error) {
		settings, err := at.p.medinaSettings(context.Background(), s)
		if err != nil {
			return nil, err
		}
		return settings.Driver(at.from)
	},
	"openapi": newOpenAPI,
	"process": newProcess,
}

func newDriver(at driverSetting, s value.Map) (driver.Driver, error) {
	kind, _ := s["kind"].(string)
	make := driverKinds[kind]
	if make == nil {
		msg := fmt.Sprintf("no driver is of kind %q", kind)
		if h := nearest.Hint(kind, value.Keys(driverKinds)); h != "" {
			msg += "; " + h
		}
		return nil, errors.New(msg)
	}
	return make(at, s)
}

// newProcess reads the settings of a driver that is a program of its own: all but
// kind and run are the program's.
func newProcess(at driverSetting, s value.Map) (driver.Driver, error) {
	list, _ := s["run"].([]any)
	var command []string
	for _, v := range list {
		text, ok := v.(string)
		if !ok {
			return nil, errors.New("run must be a list of texts: the program and its arguments")
		}
		command = append(command, text)
	}
	if len(command) == 0 {
		return nil, errors.New(`a driver of kind process needs run, such as ["python3", "drivers/tide.py"]`)
	}
	settings, err := at.p.filledIn(context.Background(), s)
	if err != nil {
		return nil, err
	}
	delete(settings, "kind")
	delete(settings, "run")
	return process.New(process.Options{Name: at.name, Command: command, Dir: at.p.estate.Dir, Settings: settings, From: at.from, Log: at.log})
}

// openAPIKeys are the settings of a driver of kind openapi.
var openAPIKeys = []string{"kind", "spec", "overlay", "api", "rate", "bearer", "user", "password", "headers", "oauth", "ca", "cert", "key"}

// known is an error for a setting that nothing has use for.
func known(what string, s value.Map, all []string) error {
	for _, k := range value.Keys(s) {
		if slices.Contains(all, k) {
			continue
		}
		msg := fmt.Sprintf("%s has no setting %q", what, k)
		if h := nearest.Hint(k, all); h != "" {
			msg += "; " + h
		}
		return errors.New(msg)
	}
	return nil
}

func newOpenAPI(at driverSetting, s value.Map) (driver.Driver, error) {
	if err := known("a driver of kind openapi", s, openAPIKeys); err != nil {
		return nil, err
	}
	spec, ok1 := s["spec"].(string)
	api, ok2 := s["api"].(string)
	if !ok1 || !ok2 {
		return nil, errors.New("a driver of kind openapi needs spec (a file) and api (a URL)")
	}
	body, err := os.ReadFile(at.p.below(spec))
	if err != nil {
		return nil, err
	}
	overlays, err := at.p.overlays(s["overlay"])
	if err != nil {
		return nil, err
	}
	rate, err := perSecond(s["rate"])
	if err != nil {
		return nil, err
	}
	auth, err := at.p.auth(s)
	if err != nil {
		return nil, err
	}
	file := func(key string) string {
		if name, _ := s[key].(string); name != "" {
			return at.p.below(name)
		}
		return ""
	}
	t, err := transport.New(transport.Options{CA: file("ca"), Cert: file("cert"), Key: file("key")})
	if err != nil {
		return nil, err
	}
	t.MaxIdleConnsPerHost = 64
	return openapi.New(openapi.Options{Document: body, Overlays: overlays, Rate: rate, From: at.from, Auth: auth, Client: &http.Client{Transport: t}, Base: func(context.Context) (string, error) { return api, nil }})
}

// overlays reads the Overlay files that a driver lays over its document: one, or
// several in order.
func (p *project) overlays(v any) ([][]byte, error) {
	if v == nil {
		return nil, nil
	}
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	var out [][]byte
	for _, v := range list {
		name, ok := v.(string)
		if !ok {
			return nil, errors.New("overlay must be a file, or a list of files")
		}
		body, err := os.ReadFile(p.below(name))
		if err != nil {
			return nil, err
		}
		out = append(out, body)
	}
	return out, nil
}

// perSecond reads how many requests a second a driver may make; 0 for no bound.
func perSecond(v any) (float64, error) {
	switch v := v.(type) {
	case nil:
		return 0, nil
	case int64:
		if v > 0 {
			return float64(v), nil
		}
	case float64:
		if v > 0 {
			return v, nil
		}
	}
	return 0, errors.New("rate must be a number of requests a second, such as 20")
}

// below is the place of a file that is named from the estate's folder.
func (p *project) below(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(p.estate.Dir, name)
}

// credential reads a credential: a text, or where one is to be had.
func (p *project) credential(name string, v any) (openapi.Credential, error) {
	if text, ok := v.(string); ok && text != "" {
		return func(context.Context, bool) (string, error) { return text, nil }, nil
	}
	src, ok := estate.ReadSource(v)
	if !ok {
		return nil, fmt.Errorf("%s must be a text, or one of { env = \"…\" }, { key = \"…\" }, { file = \"…\" }, { run = […] }", name)
	}
	return func(ctx context.Context, _ bool) (string, error) {
		text, err := p.fetch(ctx, src)
		if err != nil {
			return "", fmt.Errorf("%s: %w", name, err)
		}
		return text, nil
	}, nil
}

// auth reads how a driver says who asks.
func (p *project) auth(s value.Map) (out openapi.Auth, err error) {
	ways := 0
	if v, ok := s["bearer"]; ok {
		ways++
		if out.Bearer, err = p.credential("bearer", v); err != nil {
			return out, err
		}
	}
	_, user := s["user"]
	if v, ok := s["password"]; ok || user {
		ways++
		if out.User, user = s["user"].(string); !user || !ok {
			return out, errors.New("user and password go together")
		}
		if out.Password, err = p.credential("password", v); err != nil {
			return out, err
		}
	}
	if v, ok := s["oauth"]; ok {
		ways++
		if out.OAuth, err = p.oauth(v); err != nil {
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
			if out.Headers[name], err = p.credential("headers."+name, m[name]); err != nil {
				return out, err
			}
		}
	}
	return out, nil
}

func (p *project) oauth(v any) (*openapi.OAuth, error) {
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
	o.Secret, err = p.credential("oauth.secret", m["secret"])
	return o, err
}
