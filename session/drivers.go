package session

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kasbah/core/disk"
	"kasbah/core/driver"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/drivers/dns"
	"kasbah/drivers/openapi"
	"kasbah/drivers/postgres"
	"kasbah/drivers/process"
	"kasbah/medina"
	"kasbah/transport"

	"golang.org/x/time/rate"
)

// driverSetting is what a driver gets to know besides its settings.
type driverSetting struct {
	s    *Session
	name string // as kasbah.toml calls it
	from string // who acts
}

// driverKinds are the kinds of drivers that kasbah.toml may name.
var driverKinds = map[string]func(at driverSetting, s value.Map) (driver.Driver, error){
	"medina": func(at driverSetting, s value.Map) (driver.Driver, error) {
		settings, err := at.s.medinaSettings(context.Background(), s)
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
	settings, err := at.s.Secrets.FillIn(context.Background(), s)
	if err != nil {
		return nil, err
	}
	for _, ours := range []string{"kind", "run", "env"} {
		delete(settings, ours)
	}
	dir := at.s.Estate.Dir
	if beside := at.s.config.Beside; beside != "" && !filepath.IsAbs(command[0]) &&
		isFile(filepath.Join(beside, command[0])) &&
		!isFile(filepath.Join(dir, command[0])) {
		dir = beside // a program that git ignores is in no other tree
	}
	return process.New(process.Options{Name: at.name, Command: command, Dir: dir, Env: env,
		Settings: settings, From: at.from, Log: at.s.config.Log, Redact: at.s.Secrets.Redact})
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && !info.IsDir()
}

// newPostgres reads the settings of a driver of kind postgres.
func newPostgres(at driverSetting, s value.Map) (driver.Driver, error) {
	if err := known("a driver of kind postgres", s, driverKeys["postgres"]); err != nil {
		return nil, err
	}
	if s["dsn"] == nil {
		return nil,
			errors.New(`a driver of kind postgres needs dsn, such as { env = "COAST_DSN" }, which holds postgres://USER@HOST/DATABASE`)
	}
	dsn, err := at.s.Secrets.Credential("dsn", s["dsn"])
	if err != nil {
		return nil, err
	}
	return postgres.New(postgres.Options{DSN: dsn}), nil
}

// newDNS reads the settings of a driver of kind dns.
func newDNS(at driverSetting, s value.Map) (driver.Driver, error) {
	if err := known("a driver of kind dns", s, driverKeys["dns"]); err != nil {
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
		if o.Key.Secret, err = at.s.Secrets.Credential("secret", s["secret"]); err != nil {
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
var openAPIKeys = []string{"kind", "spec", "overlay", "api", "rate", "bearer", "user", "password", "headers", "oauth",
	"ca", "cert", "key", "hosts"}

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
	if o.Document, err = openapi.Gather(at.s.below(spec), o.Cache); err != nil {
		return nil, err
	}
	if o.Overlays, err = at.s.overlays(s["overlay"]); err != nil {
		return nil, err
	}
	o.Base = func(context.Context) (string, error) { return api, nil }
	d, err := openapi.New(o)
	var unknown *openapi.UnknownSettingError
	if errors.As(err, &unknown) {
		return nil, known("a driver of kind openapi", value.Map{unknown.Name: nil}, slices.Concat(openAPIKeys,
			unknown.Known))
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
	if limit := at.s.config.Limit; limit != nil {
		o.Limit = func(perSecond float64) *rate.Limiter { return limit(at.s.Env, at.name, perSecond) }
	}
	if o.Hosts, err = textList("hosts", s["hosts"]); err != nil {
		return o, err
	}
	if o.Auth, err = at.s.Secrets.auth(s); err != nil {
		return o, err
	}
	file := func(key string) string {
		if name, _ := s[key].(string); name != "" {
			return at.s.below(name)
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
	if others, err = at.s.Secrets.FillIn(context.Background(), others); err != nil {
		return o, err
	}
	for name, v := range others {
		o.Settings[name] = value.Plain(v)
	}
	return o, nil
}

// overlays reads the Overlay files that a driver lays over its document: one, or
// several in order.
func (s *Session) overlays(v any) ([][]byte, error) {
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
		body, err := os.ReadFile(s.below(name))
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
func (s *Session) below(name string) string {
	if filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(s.Estate.Dir, name)
}

// openDrivers makes a driver for each [drivers.NAME].
func (s *Session) openDrivers(ctx context.Context) error {
	var problems problem.List
	for _, name := range s.Estate.Drivers() {
		set := s.driverSettings(name)
		s.kinds[name], _ = set["kind"].(string)
		d, err := newDriver(driverSetting{s: s, name: name, from: s.from()}, set)
		if err == nil {
			s.Drivers[name] = d
			s.Catalogs[name], err = d.Describe(ctx)
		}
		switch {
		case err != nil && s.config.Lenient:
			s.Broken[name] = err
			delete(s.Catalogs, name)
		case err != nil:
			problems = append(problems, problem.At(s.Estate.At("drivers."+name), "driver %s: %v", name, err))
		}
	}
	if err := problems.Err(); err != nil {
		return err
	}
	if err := s.heldToPins(); err != nil {
		return err
	}
	return s.readPrices()
}

// driverSettings are those of [drivers.NAME] in the session's environment, with what is given
// from outside the file.
func (s *Session) driverSettings(name string) value.Map {
	return merged(s.Estate.Driver(name, s.Env), s.settings, "drivers."+name+".")
}

// from says to drivers who acts.
func (s *Session) from() string { return s.config.Identity.Who + "@" + s.config.Identity.Host }

// Medina are the settings of the estate's driver of kind medina: the one of that name, or the
// first.
func (s *Session) Medina(ctx context.Context, name string) (medina.Settings, error) {
	for _, drv := range s.Estate.Drivers() {
		set := s.driverSettings(drv)
		if set["kind"] == "medina" && (name == "" || name == drv) {
			return s.medinaSettings(ctx, set)
		}
	}
	if name != "" {
		return medina.Settings{},
			&problem.UsageError{Message: fmt.Sprintf("-driver: no driver of kind medina is called %q", name),
				Hint: nearest.Hint(name, s.Estate.Drivers())}
	}
	return medina.Settings{}, problem.Usage("no driver of this estate is of kind medina; -api names one that runs on " +
		"its own")
}

// medinaSettings reads the settings of a driver of kind medina. Its token is fetched
// when it is needed.
func (s *Session) medinaSettings(ctx context.Context, set value.Map) (medina.Settings, error) {
	set = value.CloneMap(set)
	token := set["token"]
	delete(set, "token")
	set, err := s.Secrets.FillIn(ctx, set)
	if err != nil {
		return medina.Settings{}, err
	}
	out, err := medina.ReadSettings(set, s.Estate.Dir)
	if err == nil && token != nil {
		out.Token, err = s.Secrets.Credential("token", token)
	}
	return out, err
}

// openAPIOptionsAt are how the estate's driver asks that has this document or this address, for
// an API that is looked at; without an estate or such a driver, as anybody asks. No driver is
// opened.
func openAPIOptionsAt(c Config, document, api string) (openapi.Options, error) {
	e, err := FindEstate(c.Dir)
	if err != nil { // the folder holds no estate
		return openapi.Options{}, nil
	}
	env, err := chooseEnvironment(e, c.Env)
	if err != nil {
		return openapi.Options{}, err
	}
	s := newSession(e, env, c)
	for _, name := range e.Drivers() {
		set := s.driverSettings(name)
		spec, _ := set["spec"].(string)
		base, _ := set["api"].(string)
		sameFile := filepath.Clean(s.below(spec)) == filepath.Clean(document)
		if set["kind"] != "openapi" || !sameFile && strings.TrimSuffix(base, "/") != strings.TrimSuffix(api, "/") {
			continue
		}
		return openAPIOptions(driverSetting{s: s, name: name, from: s.from()}, set)
	}
	return openapi.Options{}, nil
}

// TypeToProve is a type by its name with the driver, such as medina.machine, or that of a driver
// that has one type.
func (s *Session) TypeToProve(name string) (drv string, t *schema.Type, err error) {
	drv, typ, _ := strings.Cut(name, ".")
	c, err := s.Driver(drv)
	if err != nil {
		return "", nil, err
	}
	if typ == "" && len(c.Types) == 1 {
		typ = c.Names()[0]
	}
	if t = c.Types[typ]; t == nil {
		return "", nil, &problem.UsageError{Message: fmt.Sprintf("-prove takes a type of %s, such as %s.%s", drv, drv,
			c.Names()[0]), Hint: nearest.Hint(typ, c.Names())}
	}
	return drv, t, nil
}

const maxOverlay = 64 << 20 // bytes

// Examine says what an OpenAPI document, a file, offers to a driver with some overlays, which
// are files, and drafts an overlay for what is not described; nil for nothing. With a URL to
// probe it asks the API as well, reading only, as the estate's driver does that has the document.
func Examine(ctx context.Context, c Config, file string, overlays []string, probe string) (*schema.Offer, []byte,
	error) {
	body, err := openapi.Gather(file, "")
	if errors.Is(err, fs.ErrNotExist) {
		err = fmt.Errorf("there is no file %s", file)
	}
	if err != nil {
		return nil, nil, err
	}
	var over [][]byte
	for _, path := range overlays {
		one, err := disk.Read(path, maxOverlay)
		if err != nil {
			return nil, nil, err
		}
		over = append(over, one)
	}
	if probe == "" {
		offer, overlay, err := openapi.Examine(body, over)
		return offer, overlay, inFile(file, err)
	}
	if u, err := url.Parse(probe); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, nil, fmt.Errorf("-probe %s: it is not a URL of an API, such as https://harbour.example/v1", probe)
	}
	o, err := openAPIOptionsAt(c, file, probe)
	if err != nil {
		return nil, nil, err
	}
	o.Base = func(context.Context) (string, error) { return probe, nil }
	o.Document, o.Overlays = body, over
	offer, overlay, err := openapi.Probe(ctx, o)
	return offer, overlay, inFile(file, err)
}

// inFile says in which file an error is.
func inFile(file string, err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%s: %w", file, err)
}
