package survey

import (
	"context"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// Stranger is a thing that is live and that no ward of the estate records, in no environment.
type Stranger struct {
	Type string     `json:"type"`
	ID   string     `json:"id"`
	Name string     `json:"name,omitempty"`
	By   string     `json:"by,omitempty"` // who made it, if the cloud can tell
	At   *time.Time `json:"at,omitempty"`
}

// listsAtOnce is how many lists are read at the same time.
const listsAtOnce = 8

// strangers lists what is live and recorded nowhere, of the types that the estate uses or of
// all types. A list that cannot be read is a warning.
func (o Options) strangers(ctx context.Context, r *Report) error {
	if o.Strangers == "" {
		return nil
	}
	known, used := map[string]bool{}, map[string]bool{}
	for thing := range o.Elsewhere {
		known[thing] = true
	}
	for _, s := range o.States {
		for _, st := range s.Records {
			used[st.Type] = true
			known[st.Type+" "+st.ID] = true
			if st.Whole {
				continue
			}
			rec, err := st.Record()
			if err != nil {
				return err
			}
			for _, l := range rec.Leftovers {
				known[l.Type+" "+l.ID] = true
			}
		}
	}
	var mu sync.Mutex
	found := map[string][]Stranger{}
	var g errgroup.Group
	g.SetLimit(listsAtOnce)
	for _, drv := range value.Keys(o.Drivers) {
		c := o.Catalogs[drv]
		if c == nil {
			continue
		}
		for _, name := range c.Names() {
			full := drv + "." + name
			if o.Strangers != "all" && !used[full] || c.Types[name].Unlisted || c.Types[name].Unshown {
				continue
			}
			g.Go(func() error {
				list, err := strangersOf(ctx, o.Drivers[drv], full, name, known)
				mu.Lock()
				defer mu.Unlock()
				if err != nil {
					r.Warnings = append(r.Warnings, fmt.Sprintf("%s: its list could not be read, so strangers of the type "+
						"are not known: %v", full, err))
				}
				found[full] = list
				return nil
			})
		}
	}
	_ = g.Wait() // what cannot be read is a warning
	slices.Sort(r.Warnings)
	for _, full := range value.Keys(found) {
		r.Strangers = append(r.Strangers, found[full]...)
	}
	r.Counts.Stranger = len(r.Strangers)
	return nil
}

func strangersOf(ctx context.Context, d driver.Driver, full, name string, known map[string]bool) ([]Stranger, error) {
	var out []Stranger
	for l, err := range d.List(ctx, name) {
		if err != nil {
			return out, err
		}
		if known[full+" "+l.ID] {
			continue
		}
		called, _ := l.Attributes["name"].(string)
		out = append(out, Stranger{Type: full, ID: l.ID, Name: called})
	}
	return out, nil
}
