// Package postgres is a store in one table of a PostgreSQL database. A key is
// taken by an insert that a unique index refuses to repeat; a blanked object is
// a row without a body.
package postgres

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"kasbah/core/form"
	"kasbah/core/store"
)

// Settings say where the table is.
type Settings struct {
	DSN   string // a connection URL, or `key=value` pairs; what is left out comes from the PG… variables
	Table string // with its schema, perhaps; kasbah_objects when empty
}

// defaultTable is the table that is used when none is named.
const defaultTable = "kasbah_objects"

var tableForm = form.Of(`^([a-z_][a-z0-9_]*\.)?[a-z_][a-z0-9_]*$`)

// connections is how many are open at once at most.
const connections = 8

// Store keeps objects in a table.
type Store struct {
	pool  *pgxpool.Pool
	table string // quoted

	mu      sync.Mutex
	checked bool // the server brings to disk what it says it has written
}

var (
	_ store.Store   = (*Store)(nil)
	_ store.Watcher = (*Store)(nil)
)

// Open names a table. Nothing is connected before the first use, and the table
// is made at the first write.
func Open(s Settings) (*Store, error) {
	if s.Table == "" {
		s.Table = defaultTable
	}
	if !tableForm().MatchString(s.Table) {
		return nil, fmt.Errorf("%q is not a valid name for a table: use a-z, 0-9 and _, and at most a schema and a "+
			"dot before it", s.Table)
	}
	c, err := pgxpool.ParseConfig(s.DSN)
	if err != nil {
		// the library's own words may show a password
		return nil, errors.New("the dsn cannot be read: it is a URL such as postgres://USER@HOST/DATABASE, or pairs " +
			"such as host=HOST dbname=DATABASE")
	}
	c.MaxConns = connections
	c.ConnConfig.RuntimeParams["synchronous_commit"] = "on"
	c.ConnConfig.RuntimeParams["application_name"] = "kasbah"
	if c.ConnConfig.ConnectTimeout == 0 {
		c.ConnConfig.ConnectTimeout = 10 * time.Second
	}
	// a copy that only follows shows what was, and takes no writes
	c.ConnConfig.ValidateConnect = pgconn.ValidateConnectTargetSessionAttrsReadWrite
	pool, err := pgxpool.NewWithConfig(context.Background(), c)
	if err != nil {
		return nil, err
	}
	return &Store{pool: pool, table: pgx.Identifier(strings.Split(s.Table, ".")).Sanitize()}, nil
}

// said puts a failed connection into words of one line.
func said(err error) error {
	var no *pgconn.ConnectError
	if errors.As(err, &no) {
		return &unreachable{err}
	}
	return err
}

type unreachable struct{ err error }

func (e *unreachable) Error() string {
	return "PostgreSQL cannot be reached: " + strings.Join(strings.Fields(e.err.Error()), " ")
}
func (e *unreachable) Unwrap() error { return e.err }

// SQLSTATE codes, PostgreSQL's appendix A.
const (
	undefinedTable  = "42P01"
	uniqueViolation = "23505"
	duplicateTable  = "42P07"
	duplicateObject = "42710"
)

func hasCode(err error, codes ...string) bool {
	var pe *pgconn.PgError
	if !errors.As(err, &pe) {
		return false
	}
	for _, c := range codes {
		if pe.Code == c {
			return true
		}
	}
	return false
}

// channel is where the keys that were put are told.
const channel = "kasbah"

// PutIfAbsent inserts a row, and tells those who wait.
func (s *Store) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	if body == nil {
		body = []byte{}
	}
	if err := s.check(ctx); err != nil {
		return err
	}
	put := func() error {
		tag, err := s.pool.Exec(ctx,
			`with put as (insert into `+s.table+` (key, body) values ($1, $2) on conflict do nothing returning key) select pg_notify('`+channel+`', key) from put`, key, body)
		if err == nil && tag.RowsAffected() == 0 {
			return store.ErrExists
		}
		return err
	}
	err := put()
	if hasCode(err, undefinedTable) {
		if err := s.create(ctx); err != nil {
			return err
		}
		err = put()
	}
	return err
}

func (s *Store) create(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, `create table if not exists `+s.table+` (key text collate "C" primary key, body bytea)`)
	if hasCode(err, uniqueViolation, duplicateTable, duplicateObject) { // another run makes it now
		return nil
	}
	if err != nil {
		return fmt.Errorf("the table %s is not there and cannot be made: %w", s.table, err)
	}
	return nil
}

// check refuses a server that says that something is written before it is.
func (s *Store) check(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.checked {
		return nil
	}
	var fsync, commit string
	if err := s.pool.QueryRow(ctx,
		`select current_setting('fsync'), current_setting('synchronous_commit')`).Scan(&fsync, &commit); err != nil {
		return said(err)
	}
	if fsync != "on" || commit == "off" {
		return fmt.Errorf("the server acknowledges writes before they are on disk (fsync = %s, synchronous_commit = "+
			"%s), and a ledger needs that", fsync, commit)
	}
	s.checked = true
	return nil
}

// Get reads a row.
func (s *Store) Get(ctx context.Context, key string) ([]byte, error) {
	if err := store.CheckKey(key); err != nil {
		return nil, err
	}
	var body []byte
	err := s.pool.QueryRow(ctx, `select body from `+s.table+` where key = $1`, key).Scan(&body)
	switch {
	case errors.Is(err, pgx.ErrNoRows), hasCode(err, undefinedTable):
		return nil, store.ErrNotFound
	case err != nil:
		return nil, said(err)
	case body == nil:
		return nil, store.ErrBlank
	}
	return body, nil
}

// page is how many keys are read at once.
const page = 1000

// List reads the keys a page at a time. The column's collation is that of
// bytes.
func (s *Store) List(ctx context.Context, prefix, after string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		for {
			rows, err := s.pool.Query(ctx,
				`select key from `+s.table+` where key >= $1 and ($2::text is null or key < $2) and key > $3 order by key limit $4`,
				prefix, past(prefix), after, page)
			var keys []string
			if err == nil {
				keys, err = pgx.CollectRows(rows, pgx.RowTo[string])
			}
			if hasCode(err, undefinedTable) {
				return
			}
			if err != nil {
				yield("", said(err))
				return
			}
			for _, k := range keys {
				if !yield(k, nil) {
					return
				}
			}
			if len(keys) < page {
				return
			}
			after = keys[len(keys)-1]
		}
	}
}

// past is the first text behind all that begin with a prefix; nil when there is
// none.
func past(prefix string) *string {
	if prefix == "" {
		return nil
	}
	end := store.PrefixEnd(prefix)
	return &end
}

// Blank takes a row's body away.
func (s *Store) Blank(ctx context.Context, key string) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	tag, err := s.pool.Exec(ctx, `update `+s.table+` set body = null where key = $1`, key)
	if hasCode(err, undefinedTable) || err == nil && tag.RowsAffected() == 0 {
		return store.ErrNotFound
	}
	return err
}

// Delete deletes a row.
func (s *Store) Delete(ctx context.Context, key string) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	_, err := s.pool.Exec(ctx, `delete from `+s.table+` where key = $1`, key)
	if hasCode(err, undefinedTable) {
		return nil
	}
	return err
}

// Watch listens on a connection of its own.
func (s *Store) Watch(ctx context.Context, prefix string) (<-chan struct{}, error) {
	conn, err := s.pool.Acquire(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := conn.Exec(ctx, "listen "+channel); err != nil {
		conn.Release()
		return nil, err
	}
	out := make(chan struct{}, 1)
	go func() {
		defer close(out)
		// a connection that listens is not handed to others
		defer func() { _ = conn.Hijack().Close(context.Background()) }()
		for {
			n, err := conn.Conn().WaitForNotification(ctx)
			if err != nil {
				return
			}
			if strings.HasPrefix(n.Payload, prefix) {
				select {
				case out <- struct{}{}:
				default:
				}
			}
		}
	}()
	return out, nil
}

// Close closes the connections.
func (s *Store) Close() error {
	s.pool.Close()
	return nil
}
