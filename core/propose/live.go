package propose

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/schema"
	"kasbah/core/value"
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

// confirmers is how many things are read by their ids at once.
const confirmers = 16

// Unread says why something could not be read: by type with its driver, or for one
// thing by `TYPE ID`.
type Unread map[string]error

// Of is why a thing could not be read, or nil.
func (u Unread) Of(typ, id string) error {
	if err := u[typ]; err != nil {
		return err
	}
	return u[typ+" "+id]
}

// ReadLive reads the things of all types that the states record, a page of a
// type at a time, and keeps what is recorded. What a list does not show is read by its
// id: a list may be cut into pages while things come and go. Where the cloud shows none of
// a type, the record stands for what is there.
//
// also are the ids of other things, by their type, that are wanted.
func ReadLive(ctx context.Context, drivers map[string]driver.Driver, catalogs map[string]*schema.Catalog,
	states map[string]*ledger.State, also map[string][]string) (Live, error) {
	live, _, err := readLive(ctx, drivers, catalogs, states, also, true)
	if err != nil {
		return nil, err
	}
	return live, nil
}

// ReadWhatCan is ReadLive that goes on where something cannot be read, and says what. Its
// error is that of a record or of the context.
func ReadWhatCan(ctx context.Context, drivers map[string]driver.Driver, catalogs map[string]*schema.Catalog,
	states map[string]*ledger.State) (Live, Unread, error) {
	return readLive(ctx, drivers, catalogs, states, nil, false)
}

func readLive(ctx context.Context, drivers map[string]driver.Driver, catalogs map[string]*schema.Catalog,
	states map[string]*ledger.State, also map[string][]string, all bool) (Live, Unread, error) {
	many := map[string]int{}
	for _, s := range states {
		for _, st := range s.Records {
			many[st.Type]++
		}
	}
	wanted := map[string]map[string]*ledger.Stored{} // by type and id; nil for leftovers
	for _, s := range states {
		for _, st := range s.Records {
			ids := wanted[st.Type]
			if ids == nil {
				ids = make(map[string]*ledger.Stored, many[st.Type])
				wanted[st.Type] = ids
			}
			ids[st.ID] = st
			if st.Whole {
				continue
			}
			r, err := st.Record()
			if err != nil {
				return nil, nil, err
			}
			for _, l := range r.Leftovers {
				ids[l.ID] = nil
			}
		}
	}
	for typ, ids := range also {
		if wanted[typ] == nil {
			wanted[typ] = make(map[string]*ledger.Stored, len(ids))
		}
		for _, id := range ids {
			if _, recorded := wanted[typ][id]; !recorded {
				wanted[typ][id] = nil
			}
		}
	}
	out, unread := Live{}, Unread{}
	var mu sync.Mutex
	g, reading := errgroup.WithContext(ctx)
	g.SetLimit(readers)
	for full, ids := range wanted {
		delete(ids, "") // between the halves of a swap
		g.Go(func() error {
			found, faults, err := readType(reading, drivers, catalogs, full, ids)
			mu.Lock()
			defer mu.Unlock()
			if out[full] = found; err != nil {
				unread[full] = err
			}
			for _, id := range value.Keys(faults) {
				unread[full+" "+id], err = faults[id], faults[id]
			}
			if !all {
				return ctx.Err()
			}
			return err
		})
	}
	return out, unread, g.Wait()
}

// readType reads the things of one type, and says which of them could not be read.
func readType(ctx context.Context, drivers map[string]driver.Driver, catalogs map[string]*schema.Catalog, full string,
	ids map[string]*ledger.Stored) (map[string]Thing, map[string]error, error) {
	found := make(map[string]Thing, len(ids))
	drv, typ := SplitType(full)
	d := drivers[drv]
	if d == nil {
		return found, nil, fmt.Errorf("the ledger records %s, and kasbah.toml has no driver %q", full, drv)
	}
	asRecorded := func(id, tag string) bool {
		st := ids[id]
		return st != nil && st.Tag != "" && st.Tag == tag
	}
	if c := catalogs[drv]; c != nil && c.Types[typ] != nil && c.Types[typ].Unshown { // the record answers
		for id, st := range ids {
			if found[id] = (Thing{ID: id, attributes: value.Map{}}); st != nil {
				found[id] = Thing{ID: id, Tag: st.Tag, recorded: st}
			}
		}
		return found, nil, nil
	}
	list := d.List(ctx, typ)
	if s, ok := d.(driver.Skimmer); ok {
		list = s.Skim(ctx, typ, func(id, tag string) bool {
			_, known := ids[id]
			return !known || asRecorded(id, tag)
		})
	}
	far := startReading(ctx, full)
	defer far.end()
	countCall(ctx, full)
	for l, err := range list {
		far.things.Add(1)
		if err != nil {
			return found, nil, fmt.Errorf("reading the list of %s: %w", full, err)
		}
		st, known := ids[l.ID]
		if !known {
			continue
		}
		if asRecorded(l.ID, l.Tag) { // its texts are at hand already
			found[st.ID] = Thing{ID: st.ID, Tag: st.Tag, recorded: st}
		} else {
			found[l.ID] = ThingOf(l)
		}
	}
	faults := confirm(ctx, d, full, ids, found)
	return found, faults, nil
}

// confirm reads what a list did not show by its id.
func confirm(ctx context.Context, d driver.Driver, full string, ids map[string]*ledger.Stored,
	found map[string]Thing) map[string]error {
	if len(found) == len(ids) {
		return nil
	}
	_, typ := SplitType(full)
	var missing []string
	for id := range ids {
		if _, there := found[id]; !there {
			missing = append(missing, id)
		}
	}
	faults := map[string]error{}
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(confirmers)
	for _, id := range missing {
		g.Go(func() error {
			countCall(ctx, full)
			l, err := d.Read(ctx, typ, id)
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				found[id] = ThingOf(l)
			case !errors.Is(err, driver.ErrGone):
				faults[id] = fmt.Errorf("reading %s %s, which its list does not show: %w", full, id, err)
			}
			return nil
		})
	}
	_ = g.Wait() // what fails is in faults
	return faults
}

// SingleMatch is the one thing that a look-up found: its id and its attributes but
// for the secret ones. None and several are errors.
func SingleMatch(t *schema.Type, things []driver.Live) (id string, attributes value.Attributes, err error) {
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
