package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"sync"

	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/home"
	"kasbah/stores/etcd"
	"kasbah/stores/file"
	"kasbah/stores/postgres"
	"kasbah/stores/s3"
)

// storeKind is a kind of store that [ledger] may name.
type storeKind struct {
	name string
	in   string   // as messages say it: in files
	keys []string // of [ledger], besides store and seal
	open func(s storeSettings) (store.Store, error)
}

var storeKinds = []storeKind{
	{"file", "in files", []string{"path"}, func(s storeSettings) (store.Store, error) {
		return file.Open(s.path("path", ".kasbah/ledger"))
	}},
	{"postgres", "in PostgreSQL", []string{"dsn", "table"}, func(s storeSettings) (store.Store, error) {
		return postgres.Open(postgres.Settings{DSN: s.text("dsn"), Table: s.text("table")})
	}},
	{"etcd", "in etcd", []string{"endpoints", "user", "password", "ca", "cert", "key"}, func(s storeSettings) (store.Store, error) {
		return etcd.Open(etcd.Settings{Endpoints: s.texts("endpoints"), User: s.text("user"), Password: s.text("password"), CA: s.path("ca", ""), Cert: s.path("cert", ""), Key: s.path("key", "")})
	}},
	{"s3", "in S3", []string{"endpoint", "bucket", "prefix", "region", "profile", "access_key", "secret_key", "session_token", "path_style", "ca"}, func(s storeSettings) (store.Store, error) {
		pathStyle, err := s.yes("path_style")
		if err != nil {
			return nil, err
		}
		return s3.Open(s3.Settings{
			Endpoint: s.text("endpoint"), Bucket: s.text("bucket"), Prefix: s.text("prefix"), Region: s.text("region"), Profile: s.text("profile"),
			AccessKey: s.text("access_key"), SecretKey: s.text("secret_key"), SessionToken: s.text("session_token"), PathStyle: pathStyle, CA: s.path("ca", ""),
		})
	}},
}

// sealKeys are those of [ledger] that say how it is sealed and who writes it, wherever it
// is.
var sealKeys = []string{"seal", "recipients", "estate_id", "estate_key", "former_keys", "writers"}

// storeSettings are the keys of [ledger], with credentials filled in.
type storeSettings struct {
	dir string // of the estate
	is  value.Map
}

func (s storeSettings) text(key string) string {
	switch v := s.is[key].(type) {
	case nil:
		return ""
	case string:
		return v
	default:
		return value.Plain(v)
	}
}

// yes is true or false; nil where nothing is said.
func (s storeSettings) yes(key string) (*bool, error) {
	switch v := s.is[key].(type) {
	case nil:
		return nil, nil
	case bool:
		return &v, nil
	case string: // from the command line
		if v == "true" || v == "false" {
			is := v == "true"
			return &is, nil
		}
	}
	return nil, fmt.Errorf("%s must be true or false", key)
}

// texts is a list, or one text.
func (s storeSettings) texts(key string) []string {
	list, ok := s.is[key].([]any)
	if !ok {
		if one := s.text(key); one != "" {
			return []string{one}
		}
		return nil
	}
	var out []string
	for _, v := range list {
		out = append(out, value.Plain(v))
	}
	return out
}

// path is a file's, below the estate's folder unless it is absolute.
func (s storeSettings) path(key, otherwise string) string {
	name := s.text(key)
	if name == "" {
		name = otherwise
	}
	if name == "" || filepath.IsAbs(name) {
		return name
	}
	return filepath.Join(s.dir, name)
}

// openStore opens the store that settings of [ledger] name.
func (p *project) openStore(ctx context.Context, s value.Map) (store.Store, error) {
	wrong := func(key, format string, args ...any) *problem.Problem {
		return problem.At(p.estate.LedgerAt(p.env, key), format, args...)
	}
	var kinds []string
	for _, kind := range storeKinds {
		kinds = append(kinds, kind.name)
		if s["store"] != kind.name {
			continue
		}
		for _, k := range value.Keys(s) {
			all := slices.Concat([]string{"store"}, sealKeys, kind.keys)
			if slices.Contains(all, k) {
				continue
			}
			err := wrong(k, "a ledger %s has no setting %q", kind.in, k)
			err.Hint = nearest.Hint(k, all)
			return nil, err
		}
		filled, err := p.filledIn(ctx, s)
		if err != nil {
			return nil, wrong("store", "the ledger: %v", err)
		}
		st, err := kind.open(storeSettings{p.estate.Dir, filled})
		if err != nil {
			return nil, wrong("store", "a ledger %s: %v", kind.in, err)
		}
		return st, nil
	}
	err := wrong("store", "no store is called %s", value.Plain(s["store"]))
	name, _ := s["store"].(string)
	if err.Hint = nearest.Hint(name, kinds); err.Hint == "" {
		err.Hint = "there is " + joinOr(kinds)
	}
	return nil, err
}

// filledIn are settings with credentials fetched from where they say: an
// environment variable, a file or a program.
func (p *project) filledIn(ctx context.Context, s value.Map) (value.Map, error) {
	out := value.CloneMap(s)
	for _, k := range value.Keys(s) {
		if src, ok := estate.ReadSource(s[k]); ok {
			text, err := p.fetch(ctx, src)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", k, err)
			}
			out[k] = text
		}
	}
	return out, nil
}

// seen is where what this machine has seen of the project's ledgers is remembered: with
// the person's keys by the estate's id, or where nothing is sealed and there is none, in
// the estate's folder by where the ledgers are. open is the latter in any case.
func (a *app) seen(p *project, s value.Map) (is, open ledger.Memory, err error) {
	place := maps.Clone(s)
	for _, k := range sealKeys {
		delete(place, k)
	}
	digest := sha256.Sum256(value.Encode(place))
	beside := &home.Home{Dir: filepath.Join(p.estate.Dir, ".kasbah")}
	open = beside.Heads(hex.EncodeToString(digest[:8]))
	if p.box == nil {
		return open, open, nil
	}
	home, err := a.home()
	if err != nil {
		return nil, nil, err
	}
	known, _ := p.box.Estate()
	return home.Heads(known.ID), open, nil
}

// openLedgers prepares the ledger of every ward of the estate.
func (a *app) openLedgers(ctx context.Context, p *project, with map[string]any) (err error) {
	s := p.estate.Ledger(p.env)
	if to, ok := with["ledger.store"]; ok && to != s["store"] { // what the file says of another kind of store says nothing here
		for k := range s {
			if !slices.Contains(sealKeys, k) {
				delete(s, k)
			}
		}
	}
	s = merged(s, with, "ledger.")
	if p.store, err = p.openStore(ctx, s); err != nil {
		return err
	}
	if p.box, err = a.newBox(p, s); err != nil {
		return err
	}
	seen, open, err := a.seen(p, s)
	if err != nil {
		return err
	}
	id := a.identity()
	id.Sign = a.signer
	id.Commit = sync.OnceValue(func() string { return p.commit(ctx) })
	for _, w := range p.estate.Wards {
		l, err := p.ledgerOf(p.env, w, id)
		if err != nil {
			return err
		}
		l.RememberIn(&memory{Memory: seen, a: a})
		l.SeenOpen(open)
		if s["seal"] == "off" {
			l.OpenOnPurpose()
		}
		p.ledgers[w] = l
	}
	return nil
}

// ledgerOf is the ledger of a ward in an environment, as kasbah.toml says that it is sealed
// and written; it remembers nothing.
func (p *project) ledgerOf(env, ward string, who ledger.Identity) (*ledger.Ledger, error) {
	estateName, envName := p.estate.LedgerNames(env)
	l, err := ledger.New(p.store, estateName, envName, ward, who)
	if err != nil {
		return nil, err
	}
	l.WrittenBy(p.estate.Writers(env, ward))
	if p.box != nil {
		l.SealWith(p.box)
	}
	return l, nil
}
