package propose

import (
	"context"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"kasbah/core/ledger"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/driver"
)

// Live is what the clouds show: things by type (with its driver) and id.
type Live map[string]map[string]Thing

// Thing is a thing as the cloud shows it.
type Thing struct {
	ID, Tag string

	attributes value.Map
	recorded   *ledger.Stored // that has the same tag, and so the same attributes; they are not kept twice
}

// ThingOf is what a driver has read.
func ThingOf(l driver.Live) Thing { return Thing{ID: l.ID, Tag: l.Tag, attributes: l.Attributes} }

// AsRecorded reports whether the cloud's tag shows the thing to be as it is recorded.
func (t Thing) AsRecorded() bool { return t.recorded != nil }

// Attributes are all that the cloud shows of the thing. The error is that of
// reading the record that has them.
func (t Thing) Attributes() (value.Map, error) {
	if t.recorded == nil {
		return t.attributes, nil
	}
	r, err := t.recorded.Record()
	if err != nil {
		return nil, err
	}
	return value.Map(r.Live), nil
}

// SplitType splits `medina.network` into driver and type.
func SplitType(full string) (drv, typ string) {
	drv, typ, _ = strings.Cut(full, ".")
	return drv, typ
}

// readers is how many lists are read at once.
const readers = 4

// ReadLive reads the things of all types that the states record, a page of a
// type at a time, and keeps what is recorded.
func ReadLive(ctx context.Context, drivers map[string]driver.Driver, states map[string]*ledger.State) (Live, error) {
	wanted := map[string]map[string]*ledger.Stored{} // by type and id; nil for leftovers
	for _, s := range states {
		for _, st := range s.Records {
			ids := wanted[st.Type]
			if ids == nil {
				ids = map[string]*ledger.Stored{}
				wanted[st.Type] = ids
			}
			ids[st.ID] = st
			if st.Whole {
				continue
			}
			r, err := st.Record()
			if err != nil {
				return nil, err
			}
			for _, l := range r.Leftovers {
				ids[l.ID] = nil
			}
		}
	}
	out := Live{}
	var mu sync.Mutex
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(readers)
	for full, ids := range wanted {
		g.Go(func() error {
			drv, typ := SplitType(full)
			d := drivers[drv]
			if d == nil {
				return fmt.Errorf("the ledger records %s, and kasbah.toml has no driver %q", full, drv)
			}
			asRecorded := func(id, tag string) bool {
				st := ids[id]
				return st != nil && st.Tag != "" && st.Tag == tag
			}
			list := d.List(ctx, typ)
			if s, ok := d.(driver.Skimmer); ok {
				list = s.Skim(ctx, typ, func(id, tag string) bool {
					_, known := ids[id]
					return !known || asRecorded(id, tag)
				})
			}
			found := make(map[string]Thing, len(ids))
			for l, err := range list {
				if err != nil {
					return fmt.Errorf("reading the list of %s: %w", full, err)
				}
				st, known := ids[l.ID]
				if !known {
					continue
				}
				t := ThingOf(l)
				if asRecorded(l.ID, l.Tag) {
					t.attributes, t.recorded = nil, st
				}
				found[l.ID] = t
			}
			mu.Lock()
			defer mu.Unlock()
			out[full] = found
			return nil
		})
	}
	return out, g.Wait()
}

// TheOne is the one thing that a look-up found: its id and its attributes but
// for the secret ones. None and several are errors.
func TheOne(t *schema.Type, things []driver.Live) (id string, attributes value.Attributes, err error) {
	switch len(things) {
	case 0:
		return "", nil, fmt.Errorf("nothing matches")
	case 1:
	default:
		var ids []string
		for _, l := range things {
			ids = append(ids, l.ID)
		}
		return "", nil, fmt.Errorf("%d things match, and exactly one is wanted: %s", len(things), few(ids))
	}
	attributes = value.Attributes{}
	for name, v := range things[0].Attributes {
		if a := t.Attribute(name); a == nil || !a.Secret {
			attributes[name] = v
		}
	}
	return things[0].ID, attributes, nil
}
