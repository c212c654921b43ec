package session

import (
	"context"
	"fmt"

	"kasbah/core/adopt"
	"kasbah/core/enact"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/settle"
)

// AdoptRequest says what is adopted.
type AdoptRequest struct {
	Args     []string // ADDRESS=ID, or patterns of what is looked for
	IDs      string   // a file of addresses and ids; "" for none
	Find     bool     // look for the things
	AndEdit  bool     // what can be edited may differ
	TakeOver bool     // where it differs, the code is changed
	Dry      bool     // nothing is written
}

// Check is a *problem.UsageError for what does not go together.
func (r AdoptRequest) Check() error {
	switch {
	case r.Find && r.IDs != "", !r.Find && r.IDs == "" && len(r.Args) == 0:
		return problem.Usage("adopt needs ADDRESS=ID, -ids FILE, -find or -from DRIVER")
	case r.AndEdit && r.TakeOver:
		return problem.Usage("adopt takes -and-edit or -take-over: either the things change or the code does")
	case r.Dry && !r.Find && !r.TakeOver:
		return problem.Usage("adopt -dry needs -find, -from or -take-over; `kasbah propose` shows what lines in kasbah.toml would adopt")
	}
	return nil
}

// AdoptTalk is how adopting talks with a person. Whatever returns an error ends it.
type AdoptTalk struct {
	Likely   func(p adopt.Pair) (bool, error) // says whether a pair is one; nil where it cannot be asked
	Found    func(p *adopt.Pairs) error       // shows what was found
	Changes  func(p *Settling) error          // shows how files would change
	MayWrite func(ctx context.Context, p *Settling) error
	TakeTurn func(ctx context.Context, s *Session, a *Adopting) error // proposes it, asks and carries it out
}

// Adopt brings things under management. It reports whether all that was looked for was found, and can
// be adopted.
func (s *Session) Adopt(ctx context.Context, r AdoptRequest, talk AdoptTalk) (whole bool, err error) {
	x, err := s.Adoptable(ctx)
	if err != nil {
		return false, err
	}
	a := &Adopting{AndEdit: r.AndEdit}
	whole = true
	find := func() error {
		pairs, err := x.Find(ctx, r, talk.Likely)
		if err != nil {
			return err
		}
		a.Things, whole = pairs.Things(), pairs.Whole()
		return talk.Found(pairs)
	}
	if r.Find {
		err = find()
	} else {
		a.Things, err = x.Named(r.Args, r.IDs)
	}
	if err != nil || len(a.Things) == 0 {
		return whole, err
	}
	now := s
	if r.TakeOver {
		var all bool
		if now, all, err = s.takeOver(ctx, r, a, talk); err != nil {
			return false, err
		}
		if !all && !r.Dry { // what needs the rest cannot be adopted, either
			chosen := x.chosen
			if x, err = now.Adoptable(ctx); err != nil {
				return false, err
			}
			x.chosen, r.TakeOver, talk.Likely = chosen, false, nil
			err = find()
		}
		whole = whole && all
	}
	if err != nil || len(a.Things) == 0 || r.Dry {
		return whole, err
	}
	return whole, talk.TakeTurn(ctx, now, a)
}

// takeOver changes the code so that it is as the things are that are to be adopted. What no change
// covers is told, and refused where it was named. It returns a session with the code as it is then,
// and whether all is covered.
func (s *Session) takeOver(ctx context.Context, r AdoptRequest, a *Adopting, talk AdoptTalk) (*Session, bool, error) {
	beside := *a
	beside.beside = true
	p, err := s.planSettle(ctx, Request{Adopt: &beside}, settle.TakeOver,
		func(p *propose.Proposal) []settle.Difference { return settle.OfAdopted(p.Actions) })
	if err != nil {
		return nil, false, err
	}
	all := len(p.Decided) == 0
	if !r.Find && !all {
		refused := &enact.Refused{}
		for _, d := range p.Decided {
			refused.Reasons = append(refused.Reasons, fmt.Sprintf("%s: %v", d.Difference, d.Err))
		}
		return nil, false, refused
	}
	if len(p.Decided)+len(p.Settled) > 0 {
		if err := talk.Changes(p); err != nil {
			return nil, false, err
		}
	}
	if len(p.Settled) == 0 || r.Dry {
		return s, all, nil
	}
	if err := talk.MayWrite(ctx, p); err != nil {
		return nil, false, err
	}
	if _, err := p.Write(); err != nil {
		return nil, false, err
	}
	now, err := s.again(ctx)
	return now, all, err
}
