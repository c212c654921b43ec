package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
)

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
