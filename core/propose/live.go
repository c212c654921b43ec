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
type Live map[string]map[string]driver.Live

// SplitType splits `medina.network` into driver and type.
func SplitType(full string) (drv, typ string) {
	drv, typ, _ = strings.Cut(full, ".")
	return drv, typ
}

// readers is how many lists are read at once.
const readers = 4

// ReadLive reads the things of all types that the states record, a page of a
// type at a time. Only recorded things are kept, unless all is set.
func ReadLive(ctx context.Context, drivers map[string]driver.Driver, states map[string]*ledger.State, all bool) (Live, error) {
	wanted := map[string]map[string]bool{}
	for _, s := range states {
		for _, st := range s.Records {
			ids := wanted[st.Type]
			if ids == nil {
				ids = map[string]bool{}
				wanted[st.Type] = ids
			}
			ids[st.ID] = true
			if st.Whole {
				continue
			}
			r, err := st.Record()
			if err != nil {
				return nil, err
			}
			for _, l := range r.Leftovers {
				ids[l.ID] = true
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
			found := make(map[string]driver.Live, len(ids))
			for l, err := range d.List(ctx, typ) {
				if err != nil {
					return fmt.Errorf("reading the list of %s: %w", full, err)
				}
				if all || ids[l.ID] {
					found[l.ID] = l
				}
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
