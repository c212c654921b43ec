package enact

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"kasbah/core/approval"
	"kasbah/core/ledger"
	"kasbah/core/propose"
)

// judgeKept refuses a proposal that lacks signatures, is too old, or was
// carried out before. It finds the runs that it goes on from.
func (e *executor) judgeKept(refused *Refused) error {
	signatures := e.o.Envelope
	no := func(format string, args ...any) {
		refused.Reasons = append(refused.Reasons, fmt.Sprintf(format, args...))
	}
	acted, whole, by := false, true, ""
	for _, w := range e.p.Wards {
		run := e.runs[w.Ward]
		if run == nil {
			continue // nothing changes there
		}
		use := run.State().Proposals[e.p.ID]
		if use == nil {
			continue // it was made just now
		}
		acted, whole = acted || use.Acted, whole && use.Spent
		by = cmp.Or(use.By, by)
		for _, run := range use.Runs {
			if run != e.o.Run {
				e.earlier = append(e.earlier, run)
			}
		}
	}
	if len(e.earlier) > 0 && whole {
		no("run %s has carried this proposal out; propose again", by)
		return nil
	}
	for _, w := range e.p.Wards {
		run := e.runs[w.Ward]
		if run == nil {
			continue
		}
		force := run.State().Approval
		for _, a := range e.p.Approvals {
			if a.Ward == w.Ward && a.Policy != force.Digest() {
				no("who must sign in %s has changed since this was proposed; propose again", w.Ward)
			}
		}
		missing, err := e.p.Approve(w.Ward, force, signatures)
		if err != nil {
			return err
		}
		if missing != "" {
			no("%s; `kasbah approve FILE -key KEY` signs it; the person who proposed it cannot", missing)
		}
		if force != nil && !acted && e.o.Envelope != nil && time.Now().After(force.Ends(e.p.Made)) {
			no("%s lets a proposal wait for %s, and this one is from %s; propose again", w.Ward, force.Valid,
				e.p.Made.Local().Format(time.DateTime))
		}
	}
	return nil
}

// resumed finds out what of an action earlier runs of the same proposal have
// done, and reports whether the record fits that. What is done is not done
// again.
func (e *executor) resumed(a *propose.Action, r *ledger.Record) bool {
	if len(e.earlier) == 0 {
		return false
	}
	s := a.Plan.Seen
	if r != nil && a.Was != "" && r.Address == a.Address {
		if left, err := e.recordOf(a.Was, ""); left == nil && err == nil {
			e.markDone(a, rename)
		}
		if a.Kind == propose.Rename {
			return true
		}
	}
	if r != nil && a.Adopts != "" && r.ID == a.Adopts && slices.Contains(e.earlier, r.Run) {
		e.markDone(a, adopt)
		if a.Kind == propose.Adopt {
			return true
		}
	}
	if r == nil {
		if s == nil || !a.Leaves() {
			return false
		}
		e.markDone(a, inCloud(a)...)
		return true
	}
	if !slices.Contains(e.earlier, r.Run) {
		return false
	}
	switch {
	case a.Plan.RecordOnly:
		return true
	case r.Whole() && r.Declared == a.Plan.Declared && a.Plan.Declared != "":
		e.markDone(a, inCloud(a)...)
	case a.Kind == propose.Edit: // it let go, or was taken back
		now := *s
		now.Version, now.ID, now.Tag, now.Inputs, now.Live = r.Version, r.ID, r.Tag, r.Inputs, r.Live
		a.Plan.Seen = &now
		if len(a.Plan.LetGo) > 0 {
			e.markDone(a, letGo)
		}
	case a.Kind == propose.Swap && (r.ID == "" || len(r.Leftovers) > 0):
		e.markDone(a, inCloud(a)[0])
	default: // it was taken back
		if s == nil {
			return false
		}
		now := *s
		now.Version, now.ID, now.Tag, now.Inputs, now.Live = r.Version, r.ID, r.Tag, r.Inputs, r.Live
		a.Plan.Seen = &now
	}
	return true
}

// markDone notes steps that earlier runs of the same proposal have done.
func (e *executor) markDone(a *propose.Action, hs ...half) {
	whole := false
	for _, h := range hs {
		e.already[key(a.Full(), h)] = true
		whole = e.stepDone(a)
	}
	if whole {
		e.counts.Done++
		e.byWard[a.Ward].Done++
		e.resumedActions++
	}
}

// touched reports whether earlier runs of the same proposal have done a part
// of an action.
func (e *executor) touched(a *propose.Action) bool { return e.halfDone[a.Full()] > 0 }

// policyNotes writes who must sign from now on.
func (e *executor) policyNotes() map[string][]ledger.Line {
	lines := map[string][]ledger.Line{}
	for _, w := range e.p.Wards {
		if w.Approval == nil {
			continue
		}
		to := w.Approval.WillBe
		if to == nil {
			to = &approval.Policy{}
		}
		lines[w.Ward] = append(lines[w.Ward], ledger.Line{Kind: ledger.KindNote,
			Note: &ledger.Note{What: "who must sign", Approval: to}})
	}
	return lines
}
