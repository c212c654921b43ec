package postgres

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"kasbah/core/driver"
	"kasbah/core/value"
)

var _ driver.Rehearser = (*Driver)(nil)

// Rehearsals says that calls can be tried, on one connection.
func (d *Driver) Rehearsals() (can, together bool) { return true, true }

// errNotTried is the end of a call of which nothing can be said.
var errNotTried = errors.New("it cannot be tried")

// Rehearse tries calls in a transaction that is taken back. What the server takes in no
// transaction, such as the making of a database, is not tried, nor is what is in another
// database while something is made that it may rest on: other connections do not see that.
func (d *Driver) Rehearse(ctx context.Context, calls []driver.Call) ([]driver.Tried, error) {
	out := make([]driver.Tried, len(calls))
	c, release, err := d.session(ctx, "")
	if err != nil {
		return nil, err
	}
	defer release()
	tx, err := begun(ctx, c)
	if err != nil {
		return nil, err
	}
	defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }() // the server does it where this does not reach it
	r := &rehearsal{d: d, c: c, made: make([]value.Map, len(calls))}
	for i, call := range calls {
		live, alone, err := r.try(ctx, tx, call)
		if ctx.Err() != nil {
			return out, ctx.Err()
		}
		var said *driver.Error
		switch {
		case errors.Is(err, errNotTried), errors.As(err, &said) && (said.Passing || !said.NotDone):
			continue
		case err != nil && !errors.As(err, &said) && !errors.Is(err, driver.ErrGone):
			return out, err
		}
		out[i] = driver.Tried{Tried: true, Alone: alone, Err: err}
		if r.made[i] = live; live != nil && call.Do == "create" {
			r.any = true
		}
	}
	return out, nil
}

// begun is a transaction that waits for no lock.
func begun(ctx context.Context, c *pgx.Conn) (pgx.Tx, error) {
	tx, err := c.Begin(ctx)
	if err != nil {
		return nil, said(ctx, err)
	}
	if _, err := tx.Exec(ctx, "set local lock_timeout = '2s'"); err != nil {
		return nil, errors.Join(said(ctx, err), tx.Rollback(ctx))
	}
	return tx, nil
}

type rehearsal struct {
	d    *Driver
	c    *pgx.Conn   // to the database of the DSN
	made []value.Map // what calls made, by their number
	any  bool        // something was made
}

// try does one call within the transaction, or alone within one of its own in another
// database.
func (r *rehearsal) try(ctx context.Context, tx pgx.Tx, call driver.Call) (live value.Map, alone bool, err error) {
	k, err := r.d.kind(call.Type)
	if err != nil {
		return nil, false, err
	}
	if k.alone {
		return nil, false, errNotTried
	}
	inputs, ok := r.filled(call.Inputs)
	to, ok2 := r.filled(call.Change.To)
	if !ok || !ok2 {
		return nil, false, errNotTried
	}
	key, _ := inputs.(value.Map)
	if call.Do != "create" {
		if key, err = k.taken(call.ID); err != nil {
			return nil, false, err
		}
	}
	c := r.c
	if name := k.database(key); name != "" && name != c.Config().Database {
		if r.any {
			return nil, false, errNotTried
		}
		other, release, err := r.d.session(ctx, name)
		if err != nil {
			return nil, false, errNotTried
		}
		defer release()
		if tx, err = begun(ctx, other); err != nil {
			return nil, false, errNotTried
		}
		defer func() { _ = tx.Rollback(context.WithoutCancel(ctx)) }()
		c, alone = other, true
	}
	part, err := tx.Begin(ctx)
	if err != nil {
		return nil, alone, said(ctx, err)
	}
	live, err = r.do(ctx, c, part, k, call, key, to)
	if err != nil {
		return nil, alone, errors.Join(err, said(ctx, part.Rollback(ctx)))
	}
	if alone { // it is taken back at once
		live = nil
	}
	return live, alone, said(ctx, part.Commit(ctx))
}

func (r *rehearsal) do(ctx context.Context, c *pgx.Conn, part pgx.Tx, k *kind, call driver.Call, key value.Map,
	to any) (value.Map, error) {
	var list []string
	var err error
	switch call.Do {
	case "create":
		if key, err = k.complete(key); err != nil {
			return nil, err
		}
		list, err = k.create(quote{c}, key)
	default:
		var was driver.Live
		if was, err = k.read(ctx, c, key); err != nil {
			return nil, err
		}
		key = was.Attributes
		if call.Do == "delete" {
			list, err = k.remove(quote{c}, key)
			break
		}
		change := call.Change
		change.To, _ = to.(value.Map)
		if change.To, err = k.editing(key, change); err == nil {
			list, err = k.edit(quote{c}, key, change.To)
		}
	}
	if err != nil {
		return nil, err
	}
	for _, s := range list {
		if _, err := part.Exec(ctx, s); err != nil {
			return nil, said(ctx, err)
		}
	}
	if call.Do == "delete" {
		return nil, nil
	}
	live, err := k.read(ctx, c, key)
	return live.Attributes, err
}

// filled puts what earlier calls made where it is wanted; false where that is not known.
func (r *rehearsal) filled(v any) (any, bool) {
	switch v := v.(type) {
	case driver.Made:
		if v.Call < 0 || v.Call >= len(r.made) || r.made[v.Call] == nil {
			return nil, false
		}
		return v.Path.At(map[string]any(r.made[v.Call]))
	case driver.Joined:
		text := ""
		for _, x := range v {
			is, ok := r.filled(x)
			if !ok {
				return nil, false
			}
			if s, isText := is.(string); isText {
				text += s
			} else {
				text += value.Plain(is)
			}
		}
		return text, true
	}
	return value.Rebuild(v, r.filled)
}

// complete are inputs of a new thing, with the defaults of what was left out.
func (k *kind) complete(inputs value.Map) (value.Map, error) {
	is, err := k.accept(inputs)
	if err != nil {
		return nil, err
	}
	for _, a := range k.Attributes {
		if _, given := is[a.Name]; !given && a.HasDefault {
			is[a.Name] = a.Default
		}
	}
	return is, nil
}
