package medina

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the database/sql driver "sqlite"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// keyMemory is how long an idempotency key is remembered.
const keyMemory = 24 * time.Hour

// layout is that of the tables.
const layout = `
create table if not exists things (
	seq integer primary key autoincrement, id text not null unique, type text not null, name text,
	revision integer not null, body text not null, parent text, lo integer, hi integer, zone text, key text);
create index if not exists things_key on things (type, key) where key is not null;
create index if not exists things_type on things (type, seq);
create index if not exists things_name on things (type, name);
create index if not exists things_zone on things (type, zone) where zone is not null;
create index if not exists things_range on things (parent, lo) where parent is not null;
create table if not exists refs (thing text not null, attribute text not null, target text not null, primary key (thing, attribute)) without rowid;
create index if not exists refs_target on refs (target);
create table if not exists claims (type text not null, claim text not null, thing text not null, primary key (type, claim)) without rowid;
create index if not exists claims_thing on claims (thing);
create table if not exists hosts (subnet text not null, n integer not null, thing text not null, primary key (subnet, n)) without rowid;
create index if not exists hosts_thing on hosts (thing);
create table if not exists hidden (thing text primary key, body text not null) without rowid;
create table if not exists counters (name text primary key, n integer not null) without rowid;
create table if not exists keys (key text primary key, request text not null, status integer not null, location text, tag text, body text, at integer not null) without rowid;
create table if not exists tokens (name text primary key, digest text not null unique, rights text not null, zones text not null, at text not null) without rowid;
create table if not exists operations (id text primary key, thing text, path text, ready integer not null) without rowid;
create table if not exists events (seq integer primary key autoincrement, at text not null, who text not null, what text not null, type text not null, thing text not null, name text, changes text not null);
create index if not exists events_thing on events (thing, seq);
create table if not exists faults (seq integer primary key autoincrement, kind text not null, call text not null, type text not null, after integer not null, times integer not null, millis integer not null);
`

// database is Medina's memory: one SQLite file that several processes may
// have open at once.
type database struct {
	sql   *sql.DB
	write sync.Mutex // one writer a process; SQLite's own lock holds between processes
}

func openDatabase(path string) (*database, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, err
	}
	if err := private(path); err != nil {
		return nil, err
	}
	u := url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(), RawQuery: url.Values{
		"_pragma": {"busy_timeout(20000)", "journal_mode(wal)", "synchronous(normal)", "temp_store(memory)"},
		"_txlock": {"immediate"},
	}.Encode()}
	db, err := sql.Open("sqlite", u.String())
	if err != nil {
		return nil, err
	}
	// switching a new file to WAL and making the tables can meet another
	// process that does the same
	for try := 0; ; try++ {
		err = prepare(db)
		if err == nil || try == 50 || !strings.Contains(err.Error(), "locked") && !strings.Contains(err.Error(),
			"busy") {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return &database{sql: db}, nil
}

// private makes the file one that only its owner can read; those that SQLite puts beside it
// are like it.
func private(path string) error {
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	info, err := f.Stat()
	if err == nil && info.Mode().Perm()&0o077 != 0 {
		err = f.Chmod(0o600)
	}
	return errors.Join(err, f.Close())
}

// layoutVersion is that of the layout: a file that has it needs no look at its tables.
const layoutVersion = 1

// prepare makes the tables that are not there.
func prepare(db *sql.DB) error {
	var version int
	if err := db.QueryRow(`pragma user_version`).Scan(&version); err != nil || version == layoutVersion {
		return err
	}
	if err := older(db); err != nil {
		return err
	}
	_, err := db.Exec(layout + fmt.Sprintf("pragma user_version = %d;", layoutVersion))
	return err
}

// older adds what a database of before does not have.
func older(db *sql.DB) error {
	var things, key int
	err := db.QueryRow(`select count(*), count(case when name = 'key' then 1 end) from pragma_table_info('things')`).Scan(&things, &key)
	if err != nil || things == 0 || key > 0 {
		return err
	}
	_, err = db.Exec(`alter table things add column key text`)
	if err != nil && strings.Contains(err.Error(), "duplicate column") {
		return nil // another process has added it meanwhile
	}
	return err
}

// update runs f in a transaction that no other writer shares.
func (d *database) update(ctx context.Context, f func(*tx) error) error {
	d.write.Lock()
	defer d.write.Unlock()
	t, err := d.sql.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer t.Rollback() // after Commit it does nothing
	// A statement whose context can end costs a goroutine; that the asker has
	// left is seen at the commit.
	real := &tables{Tx: t}
	if err := f(&tx{held: real, real: real}); err != nil {
		return err
	}
	return t.Commit()
}

// look runs f on what there is at one moment, beside those who write.
func (d *database) look(ctx context.Context, f func(*tables) error) error {
	t, err := d.sql.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return err
	}
	defer t.Rollback() // there is nothing to keep
	return f(&tables{Tx: t, prepared: map[string]*sql.Stmt{}})
}

// tx is one change to Medina. parent, lo, hi and zone are what a type's
// decide leaves for the row.
type tx struct {
	held
	real   *tables // nil in a rehearsal
	quotas map[string]int64
	types  map[string]bool // that there are
	parent string
	lo, hi int64
	zone   string
}

// get reads a thing that another one refers to.
func (t *tx) get(typ, id string) (value.Map, error) {
	is, err := t.thing(id)
	if err != nil {
		return nil, err
	}
	if is == nil || is.typ != typ {
		return nil, refuse(typ, "there is no %s %s", typ, id)
	}
	return maps.Clone(is.body), nil
}

// there reports whether there is such a thing.
func (t *tx) there(typ, id string) (bool, error) {
	is, err := t.thing(id)
	return is != nil && is.typ == typ, err
}

// zoneOf is where a thing stands; "" for one that is in no zone.
func (t *tx) zoneOf(id string) (string, error) {
	is, err := t.thing(id)
	if is == nil {
		return "", err
	}
	return is.zone, nil
}

// host gives a new thing an address of its subnet.
func (t *tx) host(typ, id string, subnet, is value.Map) error {
	lo, hi := bounds(netip.MustParsePrefix(subnet["range"].(string)))
	n, err := t.takeHost(is["subnet"].(string), id, hi-lo-1)
	if err != nil {
		return err
	}
	if n == 0 {
		return refuse("subnet", "subnet %s has no free address left", subnet["name"])
	}
	is["address"] = address(lo + n)
	return t.countFree(is["subnet"].(string), -1)
}

// releaseHost gives the address of a deleted thing back to its subnet.
func releaseHost(t *tx, id string, was value.Map) error {
	subnet := was["subnet"].(string)
	if err := t.giveHost(subnet, id); err != nil {
		return err
	}
	return t.countFree(subnet, +1)
}

// hide keeps the secrets of a thing apart and takes them out of it, so that no
// answer holds one.
func (t *tx) hide(k *kind, id string, is value.Map) error {
	secrets := value.Map{}
	for _, a := range k.Attributes {
		if v, ok := is[a.Name]; ok && a.Secret {
			secrets[a.Name] = v
			delete(is, a.Name)
		}
	}
	if len(secrets) == 0 {
		return nil
	}
	return t.keep(id, secrets)
}

// hidden are the secrets of a thing.
func (t *tx) hidden(k *kind, id string) (value.Map, error) {
	if !slices.ContainsFunc(k.Attributes, func(a *schema.Attribute) bool { return a.Secret }) {
		return nil, nil
	}
	return t.secrets(id)
}

func decode(body string) (value.Map, error) {
	v, err := value.Parse([]byte(body))
	if err != nil {
		return nil, err
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, fmt.Errorf("medina: a stored thing is a %s", value.Kind(v))
	}
	return m, nil
}

// overlapping finds a subnet of the network that shares addresses with lo to
// hi. Subnets never overlap, so looking at the one that begins last before hi
// is enough.
func (t *tx) overlapping(network string, lo, hi int64) (name, rng string, err error) {
	id, err := t.lastBelow(network, hi)
	if id == "" || err != nil {
		return "", "", err
	}
	other, err := t.thing(id)
	if err != nil || other == nil || other.hi < lo {
		return "", "", err
	}
	name, _ = other.body["name"].(string)
	rng, _ = other.body["range"].(string)
	return name + " (" + id + ")", rng, nil
}

// countFree moves a subnet's count of free addresses, which changes its
// revision as any change does.
func (t *tx) countFree(subnet string, by int64) error {
	m, err := t.get("subnet", subnet)
	if err != nil {
		return err
	}
	n, _ := m["free"].(int64)
	m["free"] = n + by
	return t.rewrite(m)
}

// rewrite stores a changed body under its next revision.
func (t *tx) rewrite(m value.Map) error {
	rev, _ := strconv.ParseInt(m["revision"].(string), 10, 64)
	m["revision"] = strconv.FormatInt(rev+1, 10)
	return t.change(m)
}

// withinQuota refuses one thing more of a type in a zone than its quota.
func (t *tx) withinQuota(typ, zone string) error {
	quota, ok := t.quotas[typ]
	if !ok {
		return nil
	}
	n, err := t.count(typ, zone)
	if err != nil {
		return err
	}
	if n >= quota {
		return &refusal{status: 403, title: "quota reached",
			detail: fmt.Sprintf("%s has room for %d of type %s, and all are taken", zone, quota, typ)}
	}
	return nil
}

// refer notes what a thing refers to, where that is not what it was, and refuses what is
// not there. was is nil for a new thing.
func (t *tx) refer(k *kind, id string, was, is value.Map) error {
	before, now := k.references(was), k.references(is)
	if slices.Equal(before, now) {
		return nil
	}
	missing, err := t.refers(id, now)
	if err == nil && missing != nil {
		err = refuse(missing.at, "there is no %s %s", missing.typ, missing.target)
	}
	return err
}

// reference is one that an attribute holds.
type reference struct{ at, typ, target string }

// references are those of a thing.
func (k *kind) references(is value.Map) []reference {
	var out []reference
	for _, a := range k.Attributes {
		switch v := is[a.Name].(type) {
		case string:
			if a.Refers != "" {
				out = append(out, reference{a.Name, a.Refers, v})
			}
		case []any:
			for i, v := range v {
				if target, ok := v.(string); ok && a.Elem != nil && a.Elem.Refers != "" {
					out = append(out, reference{fmt.Sprintf("%s/%d", a.Name, i), a.Elem.Refers, target})
				}
			}
		}
	}
	return out
}

// claim takes what must be unique, or says who has it. was is nil for a new thing.
func (t *tx) claim(k *kind, id string, was, is value.Map) error {
	before, now := k.claims(was), k.claims(is)
	if before == now {
		return nil
	}
	holder, err := t.claimed(k.Name, id, before, now)
	if holder == "" || err != nil {
		return err
	}
	says := fmt.Sprintf("%s %s exists already (%s)", schema.WithArticle(k.Name), now, holder)
	return &refusal{status: 409, title: "already taken", detail: says,
		errors: []pointed{{Pointer: "/" + k.unique[len(k.unique)-1], Detail: says}}}
}

// claims is what must be unique of a thing, as one text; "" for nothing.
func (k *kind) claims(is value.Map) string {
	var parts []any
	for _, a := range k.unique {
		if is[a] == nil {
			return ""
		}
		parts = append(parts, is[a])
	}
	return claimOf(parts...)
}

// claimOf is what must be unique, as one text.
func claimOf(parts ...any) string {
	out := make([]string, len(parts))
	for i, p := range parts {
		out[i] = value.Plain(p)
	}
	return strings.Join(out, " ")
}

// inUse names a thing that refers to id, or nothing.
func (t *tx) inUse(id string) (string, error) {
	user, err := t.user(id)
	if user == "" || err != nil {
		return "", err
	}
	is, err := t.thing(user)
	if is == nil {
		return user, err
	}
	name, _ := is.body["name"].(string)
	return fmt.Sprintf("%s %s (%s)", is.typ, name, user), err
}

// event writes a line of the change feed.
func (t *tx) event(who, what string, k *kind, m value.Map, changes []change) error {
	if t.real == nil {
		return nil
	}
	list := make([]any, len(changes))
	for i, c := range changes {
		list[i] = value.Map{"path": c.path, "was": c.was, "is": c.is}
	}
	return t.real.exec(`insert into events (at, who, what, type, thing, name, changes) values (?, ?, ?, ?, ?, ?, ?)`,
		time.Now().UTC().Format("2006-01-02T15:04:05.000Z"), who, what, k.Name, m["id"], m["name"],
		string(value.JSON(list)))
}

// change is one attribute of an edit.
type change struct {
	path    string
	was, is any
}

// differences lists the attributes that differ, but for the revision, which
// moves with every change.
func (k *kind) differences(was, is value.Map) []change {
	var out []change
	all := value.CloneMap(was)
	for name, v := range is {
		all[name] = v
	}
	for _, name := range value.Keys(all) {
		switch a := k.Attribute(name); {
		case name == "revision" || value.Equal(was[name], is[name]):
		case a != nil && a.Secret:
			out = append(out, change{path: name}) // that it changed, and nothing more
		default:
			out = append(out, change{name, was[name], is[name]})
		}
	}
	return out
}
