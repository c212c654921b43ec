package openapi

import (
	"context"
	"iter"
	"net/url"
	"time"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// Changes reads the change feed that the document names. Where the API tells the oldest first,
// all that is asked for is read before the first is given.
func (d *Driver) Changes(ctx context.Context, which driver.Events) iter.Seq2[driver.Event, error] {
	return func(yield func(driver.Event, error) bool) {
		how := d.doc.documentExtension.Changes
		if how == nil {
			return
		}
		query := url.Values{}
		for k, v := range how.Query {
			query.Set(k, v)
		}
		if which.ID != "" {
			query.Set("id", which.ID)
		}
		if how.Since != "" && !which.Since.IsZero() {
			query.Set(how.Since, which.Since.UTC().Format(time.RFC3339Nano))
		}
		newestFirst, failed := how.Order == "newest", false
		var all []driver.Event
		d.pages(ctx, how.Path, query, &listing{how: d.doc.documentExtension.Pages}, nil, func(i item) bool {
			e, ok := eventOf(i.whole)
			switch {
			case ok && e.At.Before(which.Since):
				return !newestFirst // what follows is earlier still
			case !ok || which.Type != "" && e.Type != which.Type || which.ID != "" && e.ID != which.ID:
				return true
			case newestFirst:
				return yield(e, nil)
			}
			all = append(all, e)
			return true
		}, func(err error) {
			failed = true
			yield(driver.Event{}, err)
		})
		if !failed {
			driver.NewestFirst(all, yield)
		}
	}
}

func eventOf(m value.Map) (driver.Event, bool) {
	text := func(k string) string { s, _ := m[k].(string); return s }
	at, err := time.Parse(time.RFC3339, text("at"))
	if err != nil {
		return driver.Event{}, false
	}
	e := driver.Event{At: at, Who: text("who"), What: text("what"), Type: text("type"), ID: text("id")}
	changes, _ := m["changes"].([]any)
	for _, c := range changes {
		if c, ok := c.(map[string]any); ok {
			if p, ok := c["path"].(string); ok {
				e.Paths = append(e.Paths, p)
			}
		}
	}
	return e, true
}
