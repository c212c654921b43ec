package enact

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// Release is a run of its own that stops managing resources, by their addresses
// with their wards. Nothing is done in the cloud.
func Release(ctx context.Context, full []string, o Options) error {
	addresses, scopes := map[string][]string{}, map[string]ledger.Scope{}
	for _, f := range full {
		ward, address := value.SplitWard(f)
		addresses[ward] = append(addresses[ward], address)
		scopes[ward] = ledger.NewScope(addresses[ward], nil)
	}
	e, err := begin(ctx, o, scopes, "")
	if err != nil {
		return err
	}
	err = e.releaseRecords(ctx, full)
	outcome := "done"
	if err != nil {
		outcome = "failed"
	}
	return errors.Join(err, e.end(ctx, outcome, nil))
}

// mayBeUnsigned refuses a change past the code where a policy asks for signatures for such
// ones: there is no proposal that anybody could sign.
func (e *executor) mayBeUnsigned(kind propose.Kind, instead string) error {
	for _, ward := range value.Keys(e.runs) {
		force := e.runs[ward].State().Approval
		if because := force.Asks(map[string]bool{string(kind): true}); len(because) > 0 {
			return &Refused{Reasons: []string{fmt.Sprintf("%s asks for signatures (%s), and nothing that is done "+
				"past the code can be signed: %s, `kasbah propose -o FILE` and `kasbah approve FILE -key KEY`", ward,
				strings.Join(because, ", "), instead)}}
		}
	}
	return nil
}

func (e *executor) releaseRecords(ctx context.Context, full []string) error {
	if err := e.mayBeUnsigned(propose.Release,
		`declare it with care(at_drop = "let-go"), enact that and take it out of the code`); err != nil {
		return err
	}
	if err := e.allResolved(); err != nil {
		return err
	}
	for _, f := range full {
		r, err := e.recordOf(f, "")
		switch {
		case err != nil:
			return err
		case r == nil:
			return &Refused{Reasons: []string{f + " is not recorded"}}
		case !r.Whole():
			return &Refused{Reasons: []string{fmt.Sprintf("%s has an unfinished swap behind it, and half of it would "+
				"stay behind: enact it first", f)}}
		}
	}
	for _, f := range full {
		ward, address := value.SplitWard(f)
		if err := e.runs[ward].Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: ledger.NoteReleased,
			Dropped: address}}); err != nil {
			return err
		}
		e.mu.Lock()
		e.counts.Total, e.counts.Done = e.counts.Total+1, e.counts.Done+1
		e.byWard[ward].Total, e.byWard[ward].Done = e.byWard[ward].Total+1, e.byWard[ward].Done+1
		e.mu.Unlock()
	}
	return nil
}
