package openapi

import (
	"context"
	"iter"
	"net/url"
	"time"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// Changes reads the change feed that the document names.
func (d *Driver) Changes(ctx context.Context, typ, id string) iter.Seq2[driver.Event, error] {
	return func(yield func(driver.Event, error) bool) {
		if d.doc.documentExtension.Changes == "" {
			return
		}
		var query url.Values
		if id != "" {
			query = url.Values{"id": {id}}
		}
		d.pages(ctx, d.doc.documentExtension.Changes, query, &listing{}, nil, func(i item) bool {
			e, ok := eventOf(i.whole)
			if !ok || typ != "" && e.Type != typ {
				return true
			}
			return yield(e, nil)
		}, func(err error) { yield(driver.Event{}, err) })
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
