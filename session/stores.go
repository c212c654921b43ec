package session

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"sync"

	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/seal"
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
	{"etcd", "in etcd", []string{"endpoints", "user", "password", "ca", "cert", "key"},
		func(s storeSettings) (store.Store, error) {
			return etcd.Open(etcd.Settings{Endpoints: s.texts("endpoints"), User: s.text("user"),
				Password: s.text("password"), CA: s.path("ca", ""), Cert: s.path("cert", ""), Key: s.path("key", "")})
		}},
	{"s3", "in S3", []string{"endpoint", "bucket", "prefix", "region", "profile", "access_key", "secret_key",
		"session_token", "path_style", "ca"}, func(s storeSettings) (store.Store, error) {
		pathStyle, err := s.yes("path_style")
		if err != nil {
			return nil, err
		}
		return s3.Open(s3.Settings{
			Endpoint: s.text("endpoint"), Bucket: s.text("bucket"), Prefix: s.text("prefix"), Region: s.text("region"),
			Profile:   s.text("profile"),
			AccessKey: s.text("access_key"), SecretKey: s.text("secret_key"), SessionToken: s.text("session_token"),
			PathStyle: pathStyle, CA: s.path("ca", ""),
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

// OpenStore opens the store that settings of [ledger] name.
func (s *Session) OpenStore(ctx context.Context, set value.Map) (store.Store, error) {
	wrong := func(key, format string, args ...any) *problem.Problem {
		return problem.At(s.Estate.LedgerAt(s.Env, key), format, args...)
	}
	var kinds []string
	for _, kind := range storeKinds {
		kinds = append(kinds, kind.name)
		if set["store"] != kind.name {
			continue
		}
		for _, k := range value.Keys(set) {
			all := LedgerKeys(kind.name)
			if slices.Contains(all, k) {
				continue
			}
			err := wrong(k, "a ledger %s has no setting %q", kind.in, k)
			err.Hint = nearest.Hint(k, all)
			return nil, err
		}
		filled, err := s.Secrets.FillIn(ctx, set)
		if err != nil {
			return nil, wrong("store", "the ledger: %v", err)
		}
		st, err := kind.open(storeSettings{s.Estate.Dir, filled})
		if err != nil {
			return nil, wrong("store", "a ledger %s: %v", kind.in, err)
		}
		return st, nil
	}
	err := wrong("store", "no store is called %s", value.Plain(set["store"]))
	name, _ := set["store"].(string)
	err.Hint = nearest.HintOr(name, kinds)
	return nil, err
}

// seen is where what this machine has seen of the project's ledgers is remembered: with
// the person's keys by the estate's id, or where nothing is sealed and there is none, in
// the estate's folder by where the ledgers are. open is the latter in any case.
func (s *Session) seen(set value.Map) (is, open ledger.Memory, err error) {
	return s.seenOf(set, s.Box, set["estate_id"])
}

// seenOf is seen for ledgers that a box opens, of an estate.
func (s *Session) seenOf(set value.Map, box *seal.Box, id any) (is, open ledger.Memory, err error) {
	place := maps.Clone(set)
	for _, k := range sealKeys {
		delete(place, k)
	}
	digest := sha256.Sum256(value.Encode(place))
	beside := &home.Home{Dir: filepath.Join(s.Estate.Dir, ".kasbah")}
	open = beside.Heads(hex.EncodeToString(digest[:8]))
	if box == nil {
		return open, open, nil
	}
	home, err := s.config.Home()
	if err != nil {
		return nil, nil, err
	}
	named, _ := id.(string)
	return home.Heads(named), open, nil
}

// openLedgers prepares the ledger of every ward of the estate.
func (s *Session) openLedgers(ctx context.Context) (err error) {
	set := s.ledgerSettings()
	if s.Store, err = s.OpenStore(ctx, set); err != nil {
		return err
	}
	if s.Box, err = s.newBox(set); err != nil {
		return err
	}
	seen, open, err := s.seen(set)
	if err != nil {
		return err
	}
	id := s.config.Identity
	id.Sign = s.signer
	id.Commit = sync.OnceValue(func() string { return s.Commit(ctx) })
	memory := &memory{Memory: seen, tell: s.tell}
	of := func(ward string) (*ledger.Ledger, error) {
		l, err := s.ledgerOf(s.Env, ward, id)
		if err != nil {
			return nil, err
		}
		l.RememberIn(memory)
		l.SeenOpen(open)
		if set["seal"] == "off" {
			l.OpenOnPurpose()
		}
		return l, nil
	}
	for _, w := range append(slices.Clone(s.Estate.Wards), ledger.JournalWard) {
		if s.Ledgers[w], err = of(w); err != nil {
			return err
		}
	}
	return nil
}

// journal is what watchers of the environment claim and find.
func (s *Session) journal() *ledger.Ledger { return s.Ledgers[ledger.JournalWard] }

// withJournal are the session's wards, and the journal where all wards are meant and somebody has written
// it: what befalls all ledgers of an environment befalls it as well.
func (s *Session) withJournal(ctx context.Context) ([]string, error) {
	if len(s.Wards) < len(s.Estate.Wards) {
		return s.Wards, nil
	}
	begun, err := s.journal().Begun(ctx)
	if err != nil || !begun {
		return s.Wards, err
	}
	return append(slices.Clone(s.Wards), ledger.JournalWard), nil
}

// ledgerSettings are those of [ledger] in the session's environment, with what is given from
// outside the file.
func (s *Session) ledgerSettings() value.Map {
	set := s.Estate.Ledger(s.Env)
	// what the file says of another kind of store says nothing here
	if to, ok := s.settings["ledger.store"]; ok && to != set["store"] {
		for k := range set {
			if !slices.Contains(sealKeys, k) {
				delete(set, k)
			}
		}
	}
	return merged(set, s.settings, "ledger.")
}

// ledgerOf is the ledger of a ward in an environment, as kasbah.toml says that it is sealed
// and written; it remembers nothing.
func (s *Session) ledgerOf(env, ward string, who ledger.Identity) (*ledger.Ledger, error) {
	estateName, envName := s.Estate.LedgerNames(env)
	l, err := ledger.New(s.Store, estateName, envName, ward, who)
	if err != nil {
		return nil, err
	}
	l.WrittenBy(s.Estate.Writers(env, ward))
	if s.Box != nil {
		l.SealWith(s.Box)
	}
	return l, nil
}
