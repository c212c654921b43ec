package survey

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/driver"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// fewEnough is how many things are asked about one by one; for more the feed of all is read.
const fewEnough = 20

// blame finds out who changed what drifted and who made strangers, where the cloud can tell. A
// feed that cannot be read is a warning: what drifted is known without it.
func (o Options) blame(ctx context.Context, r *Report) {
	searches := map[string]search{} // by driver
	of := func(typ, id string) *unknown {
		drv, name := propose.SplitType(typ)
		if searches[drv] == nil {
			searches[drv] = search{}
		}
		key := thing{name, id}
		if searches[drv][key] == nil {
			searches[drv][key] = &unknown{}
		}
		return searches[drv][key]
	}
	for _, res := range r.Resources {
		if res.Verdict == Gone || res.Verdict == Accepted && len(res.Differences) == 0 {
			u := of(res.Type, res.ID)
			u.gone = append(u.gone, res)
		}
		for i := range res.Differences {
			if p, err := value.ParsePath(res.Differences[i].Path); err == nil {
				u := of(res.Type, res.ID)
				u.changed = append(u.changed, change{p, &res.Differences[i]})
			}
		}
	}
	for i := range r.Strangers {
		u := of(r.Strangers[i].Type, r.Strangers[i].ID)
		u.made = append(u.made, &r.Strangers[i])
	}
	for _, drv := range value.Keys(searches) {
		feed, ok := o.Drivers[drv].(driver.Feed)
		if !ok {
			continue
		}
		if err := searches[drv].in(ctx, feed); err != nil {
			r.Warnings = append(r.Warnings, fmt.Sprintf("%s: the change feed could not be read, so who changed "+
				"what is not known: %v", drv, err))
		}
	}
}

// thing is one thing of a driver.
type thing struct{ typ, id string }

// unknown is what is not known yet of one thing.
type unknown struct {
	gone    []*Resource // who deleted it
	changed []change    // who changed which of its attributes last
	made    []*Stranger // who made it
}

type change struct {
	path value.Path
	is   *Difference
}

// search is a search through a change feed: it goes back until nothing is unknown.
type search map[thing]*unknown

func (s search) in(ctx context.Context, feed driver.Feed) error {
	which := []driver.Events{{}}
	if len(s) <= fewEnough {
		which = which[:0]
		for t := range s {
			which = append(which, driver.Events{Type: t.typ, ID: t.id})
		}
		slices.SortFunc(which, func(a, b driver.Events) int { return strings.Compare(a.ID, b.ID) })
	}
	for _, w := range which {
		for e, err := range feed.Changes(ctx, w) {
			if err != nil {
				return err
			}
			t := thing{e.Type, e.ID}
			if u := s[t]; u != nil && u.learn(e) {
				delete(s, t)
			}
			if len(s) == 0 || w.ID != "" && s[thing{w.Type, w.ID}] == nil {
				break
			}
		}
	}
	return nil
}

// learn takes an event in, earlier than those before it, and reports whether no more can be
// known of its thing.
func (u *unknown) learn(e driver.Event) bool {
	at := e.At
	switch e.What {
	case "created":
		for _, x := range u.made {
			x.By, x.At = e.Who, &at
		}
		return true // it was nothing before
	case "deleted":
		for _, res := range u.gone {
			res.By, res.At = e.Who, &at
		}
		u.gone = nil
	}
	left := u.changed[:0]
	for _, c := range u.changed {
		if touches(e, c.path) {
			c.is.By, c.is.At = e.Who, &at
		} else {
			left = append(left, c)
		}
	}
	u.changed = left
	return len(u.gone)+len(u.changed)+len(u.made) == 0
}

// touches reports whether an event changed what stands at a path.
func touches(e driver.Event, path value.Path) bool {
	for _, text := range e.Paths {
		if p, err := value.ParsePath(text); err == nil && path.HasPrefix(p) {
			return true
		}
	}
	return false
}
