package medina

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"strings"

	"kasbah/core/driver"
	"kasbah/core/nearest"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/drivers/openapi"
	"kasbah/transport"
)

// Listener serves a Medina at an address.
type Listener struct {
	URL    string
	Ended  <-chan error // tells once why serving has ended
	Server *Server
	server *http.Server
}

// Listen opens a Medina and serves it on address, such as 127.0.0.1:0.
func Listen(address string, o Options) (*Listener, error) {
	return listen(address, o, nil)
}

// ListenTLS is Listen with TLS, under a certificate that is beside the database
// and signs itself. It is made when it is not there, or no longer good. certificate
// is its place.
func ListenTLS(address string, o Options) (l *Listener, certificate string, err error) {
	cert, path, err := transport.OwnCertificate(address, o.Path)
	if err != nil {
		return nil, "", err
	}
	l, err = listen(address, o, &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12})
	return l, path, err
}

// Serve opens a Medina and serves it until the context ends, with TLS unless plain is set. told
// gets what people are to know of it, as pairs of a word and a text.
func Serve(ctx context.Context, address string, plain bool, o Options, told func(facts [][]string) error) error {
	var l *Listener
	var certificate string
	var err error
	if plain {
		l, err = Listen(address, o)
	} else {
		l, certificate, err = ListenTLS(address, o)
	}
	if err != nil {
		return err
	}
	facts := [][]string{{"Medina at", l.URL}, {"console", l.URL + "/console/"}, {"kept in", o.Path}}
	if o.Tokens {
		token, err := l.Server.FirstToken(ctx)
		if err != nil {
			return errors.Join(err, l.Close())
		}
		facts = append(facts, []string{"token in", token})
	}
	if len(o.Habits) > 0 {
		facts = append(facts, []string{"habits", strings.Join(o.Habits, ", ") + ", told by " + l.URL + "/overlay.json"})
	}
	if certificate != "" {
		facts = append(facts, []string{"certificate", certificate})
	}
	if err := told(facts); err != nil {
		return errors.Join(err, l.Close())
	}
	select {
	case <-ctx.Done():
		return l.Close()
	case err := <-l.Ended:
		return errors.Join(err, l.Close())
	}
}

func listen(address string, o Options, secure *tls.Config) (*Listener, error) {
	if host, _, err := net.SplitHostPort(address); err == nil && host != "" {
		o.Hosts = append(slices.Clone(o.Hosts), strings.ToLower(host))
	}
	s, err := Open(o)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, errors.Join(err, s.Close())
	}
	ended := make(chan error, 1)
	out := &Listener{
		URL: "http://" + l.Addr().String(), Ended: ended, Server: s,
		server: transport.NewServer(s, bodyTime),
	}
	if out.server.TLSConfig = secure; secure != nil {
		out.URL = "https://" + l.Addr().String()
		l = tls.NewListener(l, secure)
	}
	go func() { ended <- out.server.Serve(l) }()
	return out, nil
}

// Close lets running requests end for a moment and stops serving.
func (l *Listener) Close() error {
	return errors.Join(transport.Shutdown(l.server), l.Server.Close())
}

// Settings are the keys of a driver of kind "medina" in kasbah.toml.
type Settings struct {
	API     string             // a URL, or "embedded"
	Token   openapi.Credential // for one that runs on its own; nil for none
	CA      string             // a file of certificates that its own is checked against; "" for the system's
	Options                    // for an embedded one
}

// defaultPath is where an embedded Medina keeps its things, below the estate.
const defaultPath = ".kasbah/medina.db"

var settingNames = []string{"kind", "api", "token", "ca", "path", "pace", "quota", "rate", "habits"}

// ReadSettings reads the keys of kasbah.toml but the token; paths are relative to
// dir.
func ReadSettings(m value.Map, dir string) (Settings, error) {
	s := Settings{API: "embedded", Options: Options{Path: filepath.Join(dir, defaultPath), Pace: 0.05}}
	for _, k := range value.Keys(m) {
		v := m[k]
		var ok bool
		switch k {
		case "kind":
			ok = true
		case "api":
			s.API, ok = v.(string)
			ok = ok && (s.API == "embedded" || strings.HasPrefix(s.API, "http://") || strings.HasPrefix(s.API,
				"https://"))
		case "token":
			ok = true
		case "habits":
			var list []any
			list, ok = v.([]any)
			for _, h := range list {
				name, _ := h.(string)
				s.Habits = append(s.Habits, name)
			}
			if err := CheckHabits(s.Habits); ok && err != nil {
				return s, err
			}
		case "ca":
			var p string
			if p, ok = v.(string); ok && p != "" && !filepath.IsAbs(p) {
				p = filepath.Join(dir, p)
			}
			s.CA = p
		case "rate":
			switch n := v.(type) {
			case int64:
				s.Rate, ok = float64(n), n > 0
			case float64:
				s.Rate, ok = n, n > 0
			}
		case "path":
			var p string
			if p, ok = v.(string); ok && !filepath.IsAbs(p) {
				p = filepath.Join(dir, p)
			}
			s.Path = p
		case "pace":
			switch n := v.(type) {
			case int64:
				s.Pace, ok = float64(n), true
			case float64:
				s.Pace, ok = n, true
			}
			ok = ok && s.Pace >= 0 && s.Pace <= 1
		case "quota":
			s.Quotas = map[string]int64{}
			var q map[string]any
			q, ok = v.(map[string]any)
			for typ, n := range q {
				if s.Quotas[typ], ok = n.(int64); !ok {
					break
				}
			}
		default:
			err := fmt.Sprintf("a driver of kind medina has no setting %q", k)
			if h := nearest.Hint(k, settingNames); h != "" {
				err += "; " + h
			}
			return s, errors.New(err)
		}
		if !ok {
			return s, fmt.Errorf("%s = %s: %s", k, value.Plain(v), map[string]string{
				"api": `must be "embedded" or a URL`, "ca": "must be a file",
				"rate": "must be a number of requests a second", "path": "must be a text",
				"pace": "must lie between 0 and 1", "habits": `must be a list of texts, such as ["summary-lists"]`,
				"quota": "must be a table of types and whole numbers"}[k])
		}
	}
	return s, nil
}

// base is the function that finds the API, starting an embedded server at
// the first call, and the one that ends it.
func (s Settings) base() (start func(context.Context) (string, error), stop func() error) {
	if s.API != "embedded" {
		return func(context.Context) (string, error) { return s.API, nil }, func() error { return nil }
	}
	var l *Listener
	start = func(context.Context) (string, error) {
		var err error
		if l, err = Listen("127.0.0.1:0", s.Options); err != nil {
			return "", err
		}
		return l.URL, nil
	}
	return start, func() error {
		if l == nil {
			return nil
		}
		return l.Close()
	}
}

// Driver is the OpenAPI driver on Medina's own description. from says who
// acts.
func (s Settings) Driver(from string) (driver.Driver, error) {
	s.own()
	start, stop := s.base()
	client, err := s.client()
	if err != nil {
		return nil, err
	}
	o := openapi.Options{}
	if len(s.Habits) > 0 {
		if err := CheckHabits(s.Habits); err != nil {
			return nil, err
		}
		o.Overlays = [][]byte{habitsOverlay(s.Habits)}
		if slices.Contains(s.Habits, keyInQuery) {
			o.Settings = map[string]string{"api_key": habitsKey}
		}
	}
	return openapi.New(openapi.Options{Document: Document(), Overlays: o.Overlays, Settings: o.Settings, Base: start,
		Close: stop, From: from, Client: client, Auth: openapi.Auth{Bearer: s.Token, Setting: "token"}})
}

// Describe is what a Medina without a place of its own offers.
func Describe(ctx context.Context) (*schema.Catalog, error) {
	d, err := Settings{API: "embedded"}.Driver("")
	if err != nil {
		return nil, err
	}
	c, err := d.Describe(ctx)
	return c, errors.Join(err, d.Close())
}
