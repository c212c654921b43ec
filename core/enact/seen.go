package enact

import (
	"context"
	"errors"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

// notesAtOnce is how many notes are appended together.
const notesAtOnce = 256

// RecordSeen is a run of its own that notes in the records what is live, by full address: the
// attributes and tags. What is expected does not change, and nothing is done in the cloud. It
// returns how many records changed.
func RecordSeen(ctx context.Context, seen map[string]driver.Live, o Options) (int, error) {
	if len(seen) == 0 {
		return 0, nil
	}
	addresses, scopes := map[string][]string{}, map[string]ledger.Scope{}
	for _, full := range value.Keys(seen) {
		ward, address := value.SplitWard(full)
		addresses[ward] = append(addresses[ward], address)
	}
	for ward, list := range addresses {
		scopes[ward] = ledger.NewScope(nil, list)
	}
	e, err := begin(ctx, o, scopes, "")
	if err != nil {
		return 0, err
	}
	n := 0
	for _, ward := range value.Keys(addresses) {
		var some int
		if some, err = e.noteSeen(ctx, ward, addresses[ward], seen); err != nil {
			break
		}
		n += some
	}
	outcome := "done"
	if err != nil {
		outcome = "failed"
	}
	return n, errors.Join(err, e.end(ctx, outcome, nil))
}

// noteSeen notes what is live of some resources of a ward.
func (e *executor) noteSeen(ctx context.Context, ward string, addresses []string, seen map[string]driver.Live) (n int,
	err error) {
	var lines []ledger.Line
	flush := func() error {
		if len(lines) == 0 {
			return nil
		}
		n += len(lines)
		err := e.runs[ward].Append(ctx, lines...)
		lines = nil
		return err
	}
	for _, address := range addresses {
		full := value.InWard(ward, address)
		r, err := e.recordOf(full, "")
		live := seen[full]
		if err != nil || r == nil || r.ID != live.ID { // another run changed it since
			if err != nil {
				return n, err
			}
			continue
		}
		next := *r
		next.Tag, next.Seen = live.Tag, e.o.Run
		e.take(&next, ward, live.Attributes)
		if t := e.typ(r.Type); t == nil || next.Tag == r.Tag && sameLive(t, r, &next) && len(next.Absent) == len(r.Absent) {
			continue
		}
		lines = append(lines, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: ledger.NoteSeen, Record: &next}})
		if len(lines) == notesAtOnce {
			if err := flush(); err != nil {
				return n, err
			}
		}
	}
	return n, flush()
}
