package openapi

import (
	"context"
	"fmt"
	"iter"
	"net/url"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// List reads a type's pages. The next page is fetched while the caller works
// on this one; where each parent has a list of its own, some are read at a
// time.
func (d *Driver) List(ctx context.Context, typ string) iter.Seq2[driver.Live, error] {
	return d.listed(ctx, typ, nil, nil)
}

// listed lists things: below one parent where the values of its path are known,
// and those that a query asks for.
func (d *Driver) listed(ctx context.Context, typ string, match value.Map, query url.Values) iter.Seq2[driver.Live,
	error] {
	return func(yield func(driver.Live, error) bool) {
		t, err := d.typ(typ)
		if err == nil && t.Unshown {
			err = t.unshown()
		}
		if err != nil {
			yield(driver.Live{}, err)
			return
		}
		if t.Unlisted {
			return
		}
		if t.parent == "" {
			d.collection(ctx, t, nil, query)(yield)
			return
		}
		if values, err := within(t.list.params, match); err == nil {
			for l, err := range d.collection(ctx, t, values, query) {
				if gone(err) { // so is all that was in it
					return
				}
				if !yield(l, err) {
					return
				}
			}
			return
		}
		d.below(ctx, t, query, yield)
	}
}

// below lists the things of all parents, whose lists are read some at a time
// and told in the parents' order.
func (d *Driver) below(ctx context.Context, t described, query url.Values, yield func(driver.Live, error) bool) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type part struct {
		things []driver.Live
		err    error
	}
	coming := make(chan chan part, atOnce)
	go func() {
		defer close(coming)
		for p, err := range d.List(ctx, t.parent) {
			c := make(chan part, 1)
			select {
			case coming <- c:
			case <-ctx.Done():
				return
			}
			var values []string
			if err == nil {
				values, err = within(t.above, p.Attributes)
			}
			if err != nil {
				c <- part{err: err}
				return
			}
			go func() {
				var out part
				for l, err := range d.collection(ctx, t, values, query) {
					if gone(err) { // deleted while we look
						break
					}
					if out.err = err; err != nil {
						break
					}
					out.things = append(out.things, l)
				}
				c <- out
			}()
		}
	}()
	for c := range coming {
		p := <-c
		for _, l := range p.things {
			if !yield(l, nil) {
				return
			}
		}
		if p.err != nil {
			yield(driver.Live{}, p.err)
			return
		}
	}
	if err := ctx.Err(); err != nil {
		yield(driver.Live{}, err)
	}
}

// collection lists what one path holds.
func (d *Driver) collection(ctx context.Context, t described, values []string, query url.Values) iter.Seq2[driver.Live,
	error] {
	known := value.Map{}
	for i, p := range t.list.params {
		known[p] = typed(t.Attribute(p), values[i])
	}
	if t.whole != nil {
		return d.partsOf(ctx, t, values, known)
	}
	listed := func(yield func(driver.Live, error) bool) {
		d.pages(ctx, t.list.fill(values), query, t.listing(), nil, func(i item) bool {
			l, err := t.live(i.whole, "", known)
			if gone(err) { // it is listed still
				return true
			}
			return yield(l, err) && err == nil
		}, func(err error) { yield(driver.Live{}, err) })
	}
	if t.Lists == "" || t.Lists == "whole" {
		return listed
	}
	return d.wholly(ctx, t, listed, func(driver.Live) bool { return false })
}

// listing is how lists of a type are read.
func (t described) listing() *listing {
	return &listing{how: t.Pages, id: t.ID, ids: t.Lists == "ids"}
}

// wholly reads each thing of a list that shows less than all of it by its id, some at a
// time, and tells them in the list's order. enough says of which that is not necessary.
func (d *Driver) wholly(ctx context.Context, t described, listed iter.Seq2[driver.Live, error],
	enough func(driver.Live) bool) iter.Seq2[driver.Live, error] {
	return func(yield func(driver.Live, error) bool) {
		ctx, cancel := context.WithCancel(ctx)
		defer cancel()
		type one struct {
			live driver.Live
			err  error
		}
		coming := make(chan chan one, atOnce)
		go func() {
			defer close(coming)
			for l, err := range listed {
				c := make(chan one, 1)
				select {
				case coming <- c:
				case <-ctx.Done():
					return
				}
				if err != nil {
					c <- one{err: err}
					return
				}
				if enough(l) {
					c <- one{live: driver.Live{ID: l.ID, Tag: l.Tag}}
					continue
				}
				go func() {
					live, err := d.read(ctx, t, l.ID)
					c <- one{live, err}
				}()
			}
		}()
		for c := range coming {
			o := <-c
			if gone(o.err) { // deleted while we look
				continue
			}
			if !yield(o.live, o.err) || o.err != nil {
				return
			}
		}
		if err := ctx.Err(); err != nil {
			yield(driver.Live{}, err)
		}
	}
}

// Find lists and compares; a name is asked for where the API can.
func (d *Driver) Find(ctx context.Context, typ string, match value.Map) ([]driver.Live, error) {
	t, err := d.typ(typ)
	if err != nil {
		return nil, err
	}
	if t.Unlisted {
		return nil, driver.Refuse("the API lists no things of type %s, so that none can be looked for", typ)
	}
	var query url.Values
	if name, ok := match["name"].(string); ok && t.byName {
		query = url.Values{"name": {name}}
	}
	return driver.FindInList(d.listed(ctx, typ, match, query), match)
}

// Locate finds what a key made, where the document says how to ask for it.
func (d *Driver) Locate(ctx context.Context, typ, key string) (driver.Live, error) {
	t, err := d.typ(typ)
	if err != nil {
		return driver.Live{}, err
	}
	if t.locate == "" {
		return driver.Live{}, fmt.Errorf("the API cannot tell what a key made")
	}
	for l, err := range d.listed(ctx, typ, nil, url.Values{t.locate: {key}}) {
		return l, err
	}
	return driver.Live{}, driver.ErrGone
}
