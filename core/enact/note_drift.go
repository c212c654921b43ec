package enact

import (
	"context"
	"errors"
	"fmt"

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

// AcceptDrift is a run of its own that notes which differences are accepted, by ward.
func AcceptDrift(ctx context.Context, byWard map[string][]ledger.AcceptedDrift, o Options) error {
	addresses := map[string][]string{}
	for ward, list := range byWard {
		for _, d := range list {
			addresses[ward] = append(addresses[ward], d.Address)
		}
	}
	e, err := begin(ctx, o, scopesOf(addresses), "")
	if err != nil {
		return err
	}
	for _, ward := range value.Keys(byWard) {
		var lines []ledger.Line
		for _, d := range byWard[ward] {
			lines = append(lines, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: "accepted", Drift: &d}})
		}
		for len(lines) > 0 && err == nil {
			n := min(notesAtOnce, len(lines))
			err = e.runs[ward].Append(ctx, lines[:n]...)
			lines = lines[n:]
		}
	}
	outcome := "done"
	if err != nil {
		outcome = "failed"
	}
	return errors.Join(err, e.end(ctx, outcome, nil))
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

// Followed is how a record follows the code, of which nothing is done in the cloud.
type Followed struct {
	Inputs map[string]any // by path: what is expected from now on; nil for nothing
	Leave  []value.Path   // paths that others own from now on
	Gone   bool           // the thing is gone, and its declaration was taken out
}

// Follow is a run of its own that lets records follow the code, by full address.
func Follow(ctx context.Context, followed map[string]Followed, o Options) error {
	addresses := map[string][]string{}
	for _, full := range value.Keys(followed) {
		ward, address := value.SplitWard(full)
		addresses[ward] = append(addresses[ward], address)
	}
	e, err := begin(ctx, o, scopesOf(addresses), "")
	if err != nil {
		return err
	}
	if err = e.allResolved(); err == nil {
		for _, ward := range value.Keys(addresses) {
			if err = e.follow(ctx, ward, addresses[ward], followed); err != nil {
				break
			}
		}
	}
	outcome := "done"
	if err != nil {
		outcome = "failed"
	}
	return errors.Join(err, e.end(ctx, outcome, nil))
}

func (e *executor) follow(ctx context.Context, ward string, addresses []string, followed map[string]Followed) error {
	var lines []ledger.Line
	for _, address := range addresses {
		full := value.InWard(ward, address)
		f := followed[full]
		r, err := e.recordOf(full, "")
		if err != nil {
			return err
		}
		if r == nil {
			continue // another run has dropped it since
		}
		if f.Gone {
			lines = append(lines, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: "settled: gone", Dropped: address}})
			continue
		}
		next := *r
		next.Inputs = value.CloneMap(r.Inputs)
		for _, text := range value.Keys(f.Inputs) {
			path, err := value.ParsePath(text)
			if err != nil {
				return err
			}
			is, ok := path.Set(map[string]any(next.Inputs), f.Inputs[text])
			if !ok {
				return fmt.Errorf("%s: %s cannot be recorded", full, text)
			}
			next.Inputs = is.(map[string]any)
		}
		next.Care.Leave = append(next.Care.Leave[:len(next.Care.Leave):len(next.Care.Leave)], f.Leave...)
		next.Version++
		next.Run, next.Changed = e.o.Run, now()
		lines = append(lines, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: "settled", Record: &next}})
	}
	for len(lines) > 0 {
		n := min(notesAtOnce, len(lines))
		if err := e.runs[ward].Append(ctx, lines[:n]...); err != nil {
			return err
		}
		lines = lines[n:]
	}
	return nil
}
