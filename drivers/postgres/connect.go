package postgres

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"kasbah/core/driver"
)

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
