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
	"maps"
	"net"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
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

// connected is the pool to the server.
func (d *Driver) connected(ctx context.Context, again bool) (*pgxpool.Pool, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.pool != nil && !again {
		return d.pool, nil
	}
	dsn, err := d.o.DSN(ctx, again)
	if err != nil {
		return nil, driver.Refuse("no credential for the server: %v", err)
	}
	c, err := pgxpool.ParseConfig(dsn)
	if err != nil { // the library's own words may show a password
		return nil, driver.Refuse("the dsn cannot be read: it is a URL such as postgres://USER@HOST/DATABASE, or " +
			"pairs such as host=HOST dbname=DATABASE")
	}
	c.MaxConns = connections
	c.ConnConfig.RuntimeParams["application_name"] = "kasbah"
	if c.ConnConfig.ConnectTimeout == 0 {
		c.ConnConfig.ConnectTimeout = dialTime
	}
	if d.pool != nil {
		d.pool.Close()
	}
	d.pool, err = pgxpool.NewWithConfig(ctx, c)
	return d.pool, err
}

// session is a connection to one database, "" for that of the DSN. Call the
// function when done with it.
func (d *Driver) session(ctx context.Context, database string) (*pgx.Conn, func(), error) {
	if err := ctx.Err(); err != nil {
		return nil, nil, err
	}
	pool, err := d.connected(ctx, false)
	if err != nil {
		return nil, nil, err
	}
	c, err := pool.Acquire(ctx)
	var refused *pgconn.PgError
	// a credential that was good once may have ended
	if errors.As(err, &refused) && strings.HasPrefix(refused.Code, "28") {
		if pool, err = d.connected(ctx, true); err != nil {
			return nil, nil, err
		}
		c, err = pool.Acquire(ctx)
	}
	if err != nil {
		return nil, nil, said(ctx, err)
	}
	if database == "" || database == c.Conn().Config().Database {
		return c.Conn(), c.Release, nil
	}
	config := c.Conn().Config().Copy()
	c.Release()
	config.Database = database
	conn, err := pgx.ConnectConfig(ctx, config)
	if err != nil {
		return nil, nil, said(ctx, err)
	}
	return conn, func() {
		ended, cancel := context.WithTimeout(context.WithoutCancel(ctx), dialTime)
		defer cancel()
		_ = conn.Close(ended) // what was asked for is done
	}, nil
}

// said puts an error into the contract's form.
func said(ctx context.Context, err error) error {
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var pg *pgconn.PgError
	if !errors.As(err, &pg) {
		var dial *pgconn.ConnectError
		if errors.As(err, &dial) { // its own text names user and database, and its cause is what counts
			why := lastOf(dial)
			if op := (*net.OpError)(nil); errors.As(err, &op) {
				why = op // it names the address
			}
			return &driver.Error{Message: "the server cannot be reached: " + why.Error(), Passing: true, NotDone: true}
		}
		return &driver.Error{Message: "the connection was lost: " + err.Error(), Passing: true,
			NotDone: pgconn.SafeToRetry(err)}
	}
	// what the server refuses in a transaction is taken back with all of it; what ends
	// the session may come behind its work
	e := &driver.Error{Message: pg.Message, NotDone: !strings.HasPrefix(pg.Code, "57P") && !strings.HasPrefix(pg.Code,
		"08")}
	if pg.Detail != "" {
		e.Message += ": " + strings.ReplaceAll(pg.Detail, "\n", "; ")
	}
	switch {
	case pg.Code == "XX000" && strings.Contains(pg.Message, "concurrently updated"),
		pg.Code == "55006" && strings.Contains(pg.Message, "source database"), // others are made from it as well
		pg.Code == "40001", pg.Code == "40P01", pg.Code == "55P03", pg.Code == "53300", strings.HasPrefix(pg.Code,
			"57P"), strings.HasPrefix(pg.Code, "08"):
		e.Passing = true
	case pg.Code == "3D000":
		return fmt.Errorf("%w: %w", driver.ErrGone, e)
	}
	return e
}

// lastOf is the innermost cause of an error.
func lastOf(err error) error {
	for {
		switch x := err.(type) {
		case interface{ Unwrap() error }:
			if x.Unwrap() == nil {
				return err
			}
			err = x.Unwrap()
		case interface{ Unwrap() []error }:
			all := x.Unwrap()
			if len(all) == 0 {
				return err
			}
			err = all[len(all)-1]
		default:
			return err
		}
	}
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

// Create makes a thing. The server remembers no keys.
func (d *Driver) Create(ctx context.Context, typ string, inputs value.Map, _ string) (driver.Live, error) {
	k, err := d.kind(typ)
	if err != nil {
		return driver.Live{}, err
	}
	is, err := k.complete(inputs)
	if err != nil {
		return driver.Live{}, err
	}
	return d.change(ctx, k, is, func(c *pgx.Conn) ([]string, error) { return k.create(quote{c}, is) })
}

// accept holds inputs against the schema.
func (k *kind) accept(inputs value.Map) (value.Map, error) {
	is, faults := k.Check(value.CloneMap(inputs))
	if len(faults) == 0 {
		return is, nil
	}
	e := &driver.Error{Message: faults[0].Message, NotDone: true}
	for _, f := range faults {
		e.Problems = append(e.Problems, driver.Problem{Path: f.Path.String(), Message: f.Message})
	}
	return nil, e
}

// change runs the statements of a change, all or none where the server can, and
// reads the thing.
func (d *Driver) change(ctx context.Context, k *kind, key value.Map, statements func(*pgx.Conn) ([]string,
	error)) (driver.Live, error) {
	if err := ctx.Err(); err != nil {
		return driver.Live{}, err
	}
	c, release, err := d.session(ctx, k.database(key))
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	defer release()
	list, err := statements(c)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	if err := run(ctx, c, list, k.alone); err != nil {
		return driver.Live{}, err
	}
	live, err := k.read(ctx, c, key)
	if err != nil {
		return live, driver.Uncertain(fmt.Errorf("it is done, and could not be read: %w", err), "")
	}
	return live, nil
}

// run executes statements. alone says that the server takes them in no
// transaction.
func run(ctx context.Context, c *pgx.Conn, list []string, alone bool) error {
	if alone {
		for i, s := range list {
			if _, err := c.Exec(ctx, s); err != nil && i > 0 {
				return driver.Uncertain(fmt.Errorf("a part of it is done: %w", said(ctx, err)), "")
			} else if err != nil {
				return said(ctx, err)
			}
		}
		return nil
	}
	// What fails before the commit is sent is taken back, also by a server that loses the
	// connection. What became of a commit without an answer is not known, and the
	// library's BeginFunc would tell of the rollback behind it instead.
	tx, err := c.Begin(ctx)
	if err != nil {
		return driver.Unsent(said(ctx, err))
	}
	for _, s := range list {
		if _, err := tx.Exec(ctx, s); err != nil {
			_ = tx.Rollback(ctx) // the server does it by itself where this does not reach it
			return driver.Unsent(said(ctx, err))
		}
	}
	err = tx.Commit(ctx)
	var refused *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &refused):
		return said(ctx, err)
	case errors.Is(err, pgx.ErrTxCommitRollback):
		return driver.Refuse("%v", err)
	}
	return driver.Uncertain(said(ctx, err), "")
}

// Update changes a thing.
func (d *Driver) Update(ctx context.Context, typ, id string, change driver.Change, _, _ string) (driver.Live, error) {
	k, err := d.kind(typ)
	if err != nil {
		return driver.Live{}, err
	}
	was, err := d.Read(ctx, typ, id)
	if err != nil {
		return driver.Live{}, driver.Unsent(err)
	}
	to, err := k.editing(was.Attributes, change)
	if err != nil {
		return driver.Live{}, err
	}
	return d.change(ctx, k, was.Attributes, func(c *pgx.Conn) ([]string, error) {
		return k.edit(quote{c},
			was.Attributes, to)
	})
}

// editing is what a change makes of a thing's attributes, held against the schema.
func (k *kind) editing(was value.Map, change driver.Change) (value.Map, error) {
	to := value.Map{}
	maps.Copy(to, change.To)
	for name := range change.From {
		if _, stays := to[name]; !stays {
			to[name] = nil
			if a := k.Attribute(name); a != nil && a.HasDefault {
				to[name] = a.Default
			}
		}
	}
	for _, name := range value.Keys(to) {
		a := k.Attribute(name)
		switch {
		case a == nil || a.Output:
			return nil, wrong(name, "%s has no %s to give", schema.WithArticle(k.Name), name)
		case a.Fixed && !value.Equal(to[name], was[name]):
			return nil, wrong(name, "%s of %s cannot be changed once it is made", name, schema.WithArticle(k.Name))
		case to[name] != nil:
			v, faults := a.Check(to[name], value.Path{value.Key(name)})
			if len(faults) > 0 {
				return nil, wrong(faults[0].Path.String(), "%s", faults[0].Message)
			}
			to[name] = v
		}
	}
	return to, nil
}

// wrong is a refusal of one attribute.
func wrong(path, format string, args ...any) error {
	msg := fmt.Sprintf(format, args...)
	return &driver.Error{Message: msg, NotDone: true, Problems: []driver.Problem{{Path: path, Message: msg}}}
}

// Delete deletes a thing.
func (d *Driver) Delete(ctx context.Context, typ, id, _, _ string) error {
	k, err := d.kind(typ)
	if err != nil {
		return err
	}
	was, err := d.Read(ctx, typ, id)
	if err != nil {
		return driver.Unsent(err)
	}
	c, release, err := d.session(ctx, k.database(was.Attributes))
	if err != nil {
		return driver.Unsent(err)
	}
	defer release()
	list, err := k.remove(quote{c}, was.Attributes)
	if err != nil {
		return driver.Unsent(err)
	}
	return run(ctx, c, list, k.alone)
}
