package cli

import (
	"context"
	"fmt"
	"time"

	"golang.org/x/sync/errgroup"

	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/render"
)

// statusDocument is the JSON form of how an estate stands.
type statusDocument struct {
	Format string       `json:"format"`
	Estate string       `json:"estate"`
	Wards  []wardStatus `json:"wards"`
}

type wardStatus struct {
	Ward      string             `json:"ward"`
	Env       string             `json:"env"`
	Resources int                `json:"resources"`
	Last      *ledger.RunSummary `json:"last,omitempty"`
	Locked    *render.Holder     `json:"locked,omitempty"`
	Next      string             `json:"next"`
}

// bare is `kasbah` without a command: how the estate stands, or the overview
// outside of one.
func (a *app) bare(ctx context.Context) error {
	if err := a.prepareOutput(); err != nil {
		return err
	}
	if _, err := estate.Find(a.dir); err != nil {
		if a.json {
			return err
		}
		return a.overview()
	}
	e, err := a.estate()
	if err != nil {
		return err
	}
	d := statusDocument{Format: "kasbah.status/1", Estate: e.Name, Wards: []wardStatus{}}
	var notes []string
	rows := [][]string{{"ward", "env", "resources", "last run", "lock", "next"}}
	for _, env := range e.Environments() {
		a.env = env
		p, err := a.open(ctx, nil)
		if err != nil {
			return err
		}
		states, err := p.load(ctx)
		if err != nil {
			return err
		}
		if p.otherName != "" {
			notes = append(notes, p.otherName)
		}
		wards := make([]wardStatus, len(p.wards))
		var g errgroup.Group
		g.SetLimit(ledgersAtOnce)
		for i, w := range p.wards {
			g.Go(func() (err error) {
				wards[i], err = p.status(ctx, states, w)
				return err
			})
		}
		if err := g.Wait(); err != nil {
			return err
		}
		for _, st := range wards {
			d.Wards = append(d.Wards, st)
			rows = append(rows, st.row())
		}
	}
	if a.json {
		return a.document(d)
	}
	a.out().Table(rows, a.out().HeadGrey)
	for _, n := range notes {
		a.out().Printf("note: %s\n", render.Wrap(n, a.outWidth-6, "      "))
	}
	return nil
}

func (p *project) status(ctx context.Context, states map[string]*ledger.State, ward string) (wardStatus, error) {
	// A ward may read others that have not run yet: all of them are proposed.
	st := wardStatus{Ward: ward, Env: p.env, Next: "kasbah propose -env " + p.env}
	s := states[ward]
	st.Resources = len(s.Records)
	if st.Last = s.Latest; st.Last == nil && s.Seq > 0 { // its checkpoint is of a version that did not note it
		runs, _, err := p.ledgers[ward].History(ctx)
		if err != nil {
			return st, err
		}
		if len(runs) > 0 {
			st.Last = runs[len(runs)-1]
			st.Last.Calls = nil
		}
	}
	if st.Last != nil {
		st.Last.Ward = ward
		st.Next = fmt.Sprintf("kasbah survey %s -env %s", ward, p.env)
	}
	if h := s.Holders(); len(h) > 0 {
		holder := render.NewHolder(ward, h[0])
		st.Locked = &holder
		st.Next = "kasbah lock -env " + p.env
	} else if len(s.Unresolved()) > 0 || st.Last != nil && st.Last.Outcome != "done" {
		st.Next = fmt.Sprintf("kasbah enact %s -env %s", ward, p.env)
	}
	return st, nil
}

func (st wardStatus) row() []string {
	last, lock := "never", "free"
	if r := st.Last; r != nil {
		last = fmt.Sprintf("%s by %s, %s", render.Ago(time.Since(r.Began)), r.Who, r.Outcome)
	}
	if st.Locked != nil {
		lock = "held by " + st.Locked.Who
	}
	return []string{st.Ward, st.Env, fmt.Sprint(st.Resources), last, lock, st.Next}
}
