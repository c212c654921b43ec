// Package postgres is a driver for what a PostgreSQL server holds beside its data:
// roles, memberships, databases, schemas, extensions and grants. It speaks to the
// server itself, by SQL.
//
// A server knows neither idempotency keys nor entity tags; names identify
// everything, so that a lost answer is found out about by looking.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Options of a driver.
type Options struct {
	// DSN finds the server and who asks: a connection URL, or pairs of key and
	// value. It is called at the first use, and again when the server refuses
	// what it gave. Its database is where the server's own things are read.
	DSN func(ctx context.Context, again bool) (string, error)
}

// Driver is a driver for one server.
type Driver struct {
	o     Options
	kinds map[string]*kind
	cat   *schema.Catalog

	mu   sync.Mutex
	pool *pgxpool.Pool // to the database of the DSN; nil before the first use
}

var (
	_ driver.Driver = (*Driver)(nil)
	_ driver.Vetter = (*Driver)(nil)
)

const (
	connections = 8
	dialTime    = 10 * time.Second
)

// New makes a driver. Nothing is connected yet.
func New(o Options) *Driver {
	d := &Driver{o: o, kinds: map[string]*kind{}, cat: &schema.Catalog{Version: "1", Types: map[string]*schema.Type{}}}
	for _, k := range kinds() {
		k.Index()
		d.kinds[k.Name], d.cat.Types[k.Name] = k, k.Type
	}
	return d
}

// Describe returns the catalogue, which needs no server.
func (d *Driver) Describe(context.Context) (*schema.Catalog, error) { return d.cat, nil }

// Vet says which rights there are not, without asking the server.
func (d *Driver) Vet(_ context.Context, typ string, inputs value.Map) []driver.Problem {
	var e *driver.Error
	if typ == grantName && errors.As(grantable(inputs, inputs["rights"]), &e) {
		return e.Problems
	}
	return nil
}

// Close closes all connections.
func (d *Driver) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.pool != nil {
		d.pool.Close()
		d.pool = nil
	}
	return nil
}

func (d *Driver) kind(typ string) (*kind, error) {
	if k := d.kinds[typ]; k != nil {
		return k, nil
	}
	return nil, fmt.Errorf("PostgreSQL has no type %q", typ)
}

// identity writes what identifies a thing: its name, or several parts with slashes
// between them.
func identity(parts ...string) string {
	if len(parts) == 1 {
		return parts[0]
	}
	for i := range parts {
		parts[i] = url.PathEscape(parts[i])
	}
	return strings.Join(parts, "/")
}

// taken takes an identity apart; ErrGone where it can be none.
func (k *kind) taken(id string) (value.Map, error) {
	if len(k.Identify) == 1 {
		return value.Map{k.Identify[0]: id}, nil
	}
	parts := strings.Split(id, "/")
	if len(parts) != len(k.Identify) {
		return nil, fmt.Errorf("%w: %q does not identify %s: that takes %s", driver.ErrGone, id,
			schema.WithArticle(k.Name), strings.Join(k.Identify, "/"))
	}
	out := value.Map{}
	for i, p := range parts {
		v, err := url.PathUnescape(p)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", driver.ErrGone, err)
		}
		out[k.Identify[i]] = v
	}
	return out, nil
}

func (k *kind) live(m value.Map) driver.Live {
	parts := make([]string, len(k.Identify))
	for i, name := range k.Identify {
		parts[i], _ = m[name].(string)
	}
	for name, v := range m {
		if v == nil {
			delete(m, name)
		}
	}
	id := identity(parts...)
	if k.ID == "id" {
		m["id"] = id
	}
	return driver.Live{ID: id, Attributes: m}
}

// database is where a thing of a kind is, by what identifies it.
func (k *kind) database(key value.Map) string {
	if !k.inDatabase {
		return ""
	}
	s, _ := key["database"].(string)
	return s
}

// Read reads one thing.
func (d *Driver) Read(ctx context.Context, typ, id string) (driver.Live, error) {
	k, err := d.kind(typ)
	if err != nil {
		return driver.Live{}, err
	}
	if err := ctx.Err(); err != nil {
		return driver.Live{}, err
	}
	key, err := k.taken(id)
	if err != nil {
		return driver.Live{}, err
	}
	c, release, err := d.session(ctx, k.database(key))
	if err != nil {
		return driver.Live{}, err
	}
	defer release()
	return k.read(ctx, c, key)
}

func (k *kind) read(ctx context.Context, c *pgx.Conn, key value.Map) (driver.Live, error) {
	all, err := k.rows(ctx, c, key)
	if err != nil {
		return driver.Live{}, err
	}
	if len(all) == 0 {
		return driver.Live{}, driver.ErrGone
	}
	return all[0], nil
}

// rows reads the things of one database, or those of them that a key identifies.
func (k *kind) rows(ctx context.Context, c *pgx.Conn, key value.Map) ([]driver.Live, error) {
	where, args := "", []any{}
	for _, name := range k.Identify {
		if v, ok := key[name]; ok {
			args = append(args, v)
			where += fmt.Sprintf(" and %q = $%d", name, len(args))
		}
	}
	rows, err := c.Query(ctx, "select * from ("+k.query+") t where true"+where+" order by "+quotedList(k.Identify),
		args...)
	if err != nil {
		return nil, said(ctx, err)
	}
	maps, err := pgx.CollectRows(rows, pgx.RowToMap)
	if err != nil {
		return nil, said(ctx, err)
	}
	out := make([]driver.Live, len(maps))
	for i, m := range maps {
		v, err := value.Normal(plain(m))
		if err != nil {
			return nil, err
		}
		out[i] = k.live(v.(map[string]any))
	}
	return out, nil
}

// plain turns what rows hold into what values may be.
func plain(m map[string]any) map[string]any {
	for k, v := range m {
		switch v := v.(type) {
		case int32:
			m[k] = int64(v)
		case uint32:
			m[k] = int64(v)
		case []string:
			list := make([]any, len(v))
			for i := range v {
				list[i] = v[i]
			}
			m[k] = list
		}
	}
	return m
}

func quotedList(names []string) string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = pgx.Identifier{n}.Sanitize()
	}
	return strings.Join(out, ", ")
}

// List reads all things of a type, database by database where they are in one.
func (d *Driver) List(ctx context.Context, typ string) iter.Seq2[driver.Live, error] {
	return func(yield func(driver.Live, error) bool) {
		if err := d.list(ctx, typ, nil, func(l driver.Live) bool { return yield(l, nil) }); err != nil {
			yield(driver.Live{}, err)
		}
	}
}

// list tells things that match until the caller has enough.
func (d *Driver) list(ctx context.Context, typ string, match value.Map, tell func(driver.Live) bool) error {
	k, err := d.kind(typ)
	if err != nil {
		return err
	}
	key := value.Map{}
	for _, name := range k.Identify {
		if v, ok := match[name].(string); ok {
			key[name] = v
		}
	}
	databases := []string{k.database(key)}
	if k.inDatabase && databases[0] == "" {
		databases = nil
		if err := d.list(ctx, "database", nil, func(l driver.Live) bool {
			databases = append(databases, l.Attributes["name"].(string))
			return true
		}); err != nil {
			return err
		}
	}
	for _, name := range databases {
		all, err := d.in(ctx, k, name, key)
		if errors.Is(err, driver.ErrGone) { // dropped while we look
			continue
		}
		if err != nil {
			return err
		}
		for _, l := range all {
			if !tell(l) {
				return nil
			}
		}
	}
	return nil
}

func (d *Driver) in(ctx context.Context, k *kind, database string, key value.Map) ([]driver.Live, error) {
	c, release, err := d.session(ctx, database)
	if err != nil {
		return nil, err
	}
	defer release()
	return k.rows(ctx, c, key)
}

// Find reads the things that match.
func (d *Driver) Find(ctx context.Context, typ string, match value.Map) ([]driver.Live, error) {
	var out []driver.Live
	err := d.list(ctx, typ, match, func(l driver.Live) bool {
		if l.Matches(match) {
			out = append(out, l)
		}
		return true
	})
	return out, err
}
