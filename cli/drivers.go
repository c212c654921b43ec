package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"

	"kasbah/core/driver"
	"kasbah/core/nearest"
	"kasbah/core/value"
	"kasbah/drivers/dns"
	"kasbah/drivers/openapi"
	"kasbah/drivers/postgres"
	"kasbah/drivers/process"
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
	"openapi":  newOpenAPI,
	"process":  newProcess,
	"postgres": newPostgres,
	"dns":      newDNS,
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
// kind, run and env are the program's.
func newProcess(at driverSetting, s value.Map) (driver.Driver, error) {
	command, err := textList("run", s["run"])
	if err != nil {
		return nil, err
	}
	if len(command) == 0 {
		return nil, errors.New(`a driver of kind process needs run, such as ["python3", "drivers/tide.py"]`)
	}
	env, err := textList("env", s["env"])
	if err != nil {
		return nil, err
	}
	settings, err := at.p.filledIn(context.Background(), s)
	if err != nil {
		return nil, err
	}
	for _, ours := range []string{"kind", "run", "env"} {
		delete(settings, ours)
	}
	return process.New(process.Options{Name: at.name, Command: command, Dir: at.p.estate.Dir, Env: env, Settings: settings, From: at.from, Log: at.log, Redact: at.p.revealed.Text})
}

// newPostgres reads the settings of a driver of kind postgres.
func newPostgres(at driverSetting, s value.Map) (driver.Driver, error) {
	if err := known("a driver of kind postgres", s, []string{"kind", "dsn"}); err != nil {
		return nil, err
	}
	if s["dsn"] == nil {
		return nil, errors.New(`a driver of kind postgres needs dsn, such as { env = "COAST_DSN" }, which holds postgres://USER@HOST/DATABASE`)
	}
	dsn, err := at.p.credential("dsn", s["dsn"])
	if err != nil {
		return nil, err
	}
	return postgres.New(postgres.Options{DSN: dsn}), nil
}

// newDNS reads the settings of a driver of kind dns.
func newDNS(at driverSetting, s value.Map) (driver.Driver, error) {
	if err := known("a driver of kind dns", s, []string{"kind", "server", "zones", "key", "secret", "algorithm"}); err != nil {
		return nil, err
	}
	var o dns.Options
	o.Server, _ = s["server"].(string)
	zones, err := textList("zones", s["zones"])
	if err != nil {
		return nil, err
	}
	if o.Zones = zones; o.Server == "" || len(zones) == 0 {
		return nil, errors.New(`a driver of kind dns needs server (a host) and zones, such as ["lantern.example"]`)
	}
	o.Key.Name, _ = s["key"].(string)
	o.Key.Algorithm, _ = s["algorithm"].(string)
	if (o.Key.Name == "") != (s["secret"] == nil) {
		return nil, errors.New("key (its name) and secret (of that key) go together")
	}
	if o.Key.Name != "" {
		if o.Key.Secret, err = at.p.credential("secret", s["secret"]); err != nil {
			return nil, err
		}
	}
	return dns.New(o)
}

// textList reads a list of texts.
func textList(name string, v any) ([]string, error) {
	list, ok := v.([]any)
	if !ok && v != nil {
		return nil, fmt.Errorf("%s must be a list of texts", name)
	}
	var out []string
	for _, v := range list {
		text, ok := v.(string)
		if !ok {
			return nil, fmt.Errorf("%s must be a list of texts, and holds %s", name, value.Plain(v))
		}
		out = append(out, text)
	}
	return out, nil
}

// openAPIKeys are the settings of a driver of kind openapi.
var openAPIKeys = []string{"kind", "spec", "overlay", "api", "rate", "bearer", "user", "password", "headers", "oauth", "ca", "cert", "key", "hosts"}

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
	spec, ok1 := s["spec"].(string)
	api, ok2 := s["api"].(string)
	if !ok1 || !ok2 {
		return nil, errors.New("a driver of kind openapi needs spec (a file) and api (a URL)")
	}
	o, err := openAPIOptions(at, s)
	if err != nil {
		return nil, err
	}
	if caches, err := os.UserCacheDir(); err == nil {
		o.Cache = filepath.Join(caches, "kasbah", "documents")
	}
	if o.Document, err = openapi.Gather(at.p.below(spec), o.Cache); err != nil {
		return nil, err
	}
	if o.Overlays, err = at.p.overlays(s["overlay"]); err != nil {
		return nil, err
	}
	o.Base = func(context.Context) (string, error) { return api, nil }
	d, err := openapi.New(o)
	var unknown *openapi.UnknownSettingError
	if errors.As(err, &unknown) {
		return nil, known("a driver of kind openapi", value.Map{unknown.Name: nil}, slices.Concat(openAPIKeys, unknown.Known))
	}
	if err != nil {
		return nil, err
	}
	return d, nil
}

// openAPIOptions are how a driver of kind openapi asks its API, without its document. What
// is none of its settings may be one that the document names.
func openAPIOptions(at driverSetting, s value.Map) (o openapi.Options, err error) {
	o.From = at.from
	if o.Rate, err = perSecond(s["rate"]); err != nil {
		return o, err
	}
	if o.Hosts, err = textList("hosts", s["hosts"]); err != nil {
		return o, err
	}
	if o.Auth, err = at.p.auth(s); err != nil {
		return o, err
	}
	file := func(key string) string {
		if name, _ := s[key].(string); name != "" {
			return at.p.below(name)
		}
		return ""
	}
	t, err := transport.New(transport.Options{CA: file("ca"), Cert: file("cert"), Key: file("key")})
	if err != nil {
		return o, err
	}
	t.MaxIdleConnsPerHost = 64
	o.Client, o.Settings = &http.Client{Transport: t}, map[string]string{}
	others := value.Map{}
	for name, v := range s {
		if !slices.Contains(openAPIKeys, name) {
			others[name] = v
		}
	}
	if others, err = at.p.filledIn(context.Background(), others); err != nil {
		return o, err
	}
	for name, v := range others {
		o.Settings[name] = value.Plain(v)
	}
	return o, nil
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
