// Command lamps is an example of a driver as a program of its own, in Go: lamps
// that live as long as it runs, and burn or do not.
package main

import (
	"context"
	"fmt"
	"iter"
	"os"
	"strconv"
	"sync"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/drivers/process"
)

const types = `{"lamp": {
	"type": "object", "description": "A lamp.",
	"x-kasbah": {"tags": true},
	"properties": {
		"name": {"type": "string"},
		"lit": {"type": "boolean", "default": false, "x-kasbah": {"default-on-absence": true}},
		"id": {"type": "string", "readOnly": true}
	}
}}`

func main() {
	open := func(value.Map, string) (driver.Driver, error) { return &lamps{all: map[string]driver.Live{}}, nil }
	if err := process.Serve(context.Background(), "lamps", process.Schemas{Version: "1", Types: []byte(types)}, open,
		os.Stdin, os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

type lamps struct {
	mu   sync.Mutex
	all  map[string]driver.Live
	next int
}

// Describe is answered from the types above, and never asked for here.
func (l *lamps) Describe(context.Context) (*schema.Catalog, error) { return nil, nil }

func (l *lamps) Close() error { return nil }

// known is an error for what lamps do not have.
func known(typ string, attributes ...value.Map) error {
	if typ != "lamp" {
		return driver.Refuse("there are only lamps")
	}
	for _, m := range attributes {
		for name := range m {
			if name != "name" && name != "lit" {
				return &driver.Error{Message: "a lamp has no such thing", NotDone: true,
					Problems: []driver.Problem{{Path: name, Message: "a lamp has no such thing"}}}
			}
		}
	}
	return nil
}

// seen is the lamp, when it is still as the caller saw it.
func (l *lamps) seen(id, tag string) (driver.Live, error) {
	is, ok := l.all[id]
	switch {
	case !ok:
		return is, driver.ErrGone
	case tag != "" && tag != is.Tag:
		return is, driver.ErrTag
	}
	return is, nil
}

func (l *lamps) keep(id string, a value.Map) driver.Live {
	l.next++
	if a["lit"] == nil {
		a["lit"] = false
	}
	a["id"] = id
	l.all[id] = driver.Live{ID: id, Tag: strconv.Itoa(l.next), Attributes: a}
	return l.all[id]
}

func (l *lamps) Read(_ context.Context, _, id string) (driver.Live, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.seen(id, "")
}

func (l *lamps) List(_ context.Context, typ string) iter.Seq2[driver.Live, error] {
	return func(yield func(driver.Live, error) bool) {
		if err := known(typ); err != nil {
			yield(driver.Live{}, err)
			return
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		for _, one := range l.all {
			if !yield(one, nil) {
				return
			}
		}
	}
}

func (l *lamps) Find(ctx context.Context, typ string, match value.Map) ([]driver.Live, error) {
	return driver.FindInList(l.List(ctx, typ), match)
}

func (l *lamps) Create(_ context.Context, typ string, inputs value.Map, _ string) (driver.Live, error) {
	if err := known(typ, inputs); err != nil {
		return driver.Live{}, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.keep(fmt.Sprintf("lamp-%04d", len(l.all)+l.next+1), value.CloneMap(inputs)), nil
}

func (l *lamps) Update(_ context.Context, typ, id string, change driver.Change, tag, _ string) (driver.Live, error) {
	if err := known(typ, change.From, change.To); err != nil {
		return driver.Live{}, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	is, err := l.seen(id, tag)
	if err != nil {
		return driver.Live{}, err
	}
	next := value.CloneMap(is.Attributes)
	for name := range change.From {
		delete(next, name)
	}
	for name, v := range change.To {
		next[name] = v
	}
	return l.keep(id, next), nil
}

func (l *lamps) Delete(_ context.Context, _, id, tag, _ string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if _, err := l.seen(id, tag); err != nil {
		return err
	}
	delete(l.all, id)
	return nil
}
