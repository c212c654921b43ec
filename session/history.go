package session

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/oklog/ulid/v2"

	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/value"
)

// Log is the history of a session's wards, oldest run first: the runs with these ids, or the
// last so many of all runs, 0 for all; with their calls or without.
func (s *Session) Log(ctx context.Context, ids []string, last int, calls bool) (*ledger.Log, error) {
	d := &ledger.Log{Format: "kasbah.log/1", Runs: []*ledger.RunSummary{}}
	for _, w := range s.Wards {
		read := s.Ledgers[w].Runs
		if calls {
			read = s.Ledgers[w].History
		}
		list, unread, err := read(ctx)
		if err != nil {
			return nil, err
		}
		d.Unread += unread
		for _, r := range list {
			called := func(id string) bool { return ledger.IsRun(r.Run, id) }
			if len(ids) == 0 || slices.ContainsFunc(ids, called) {
				d.Runs = append(d.Runs, r)
			}
		}
	}
	if len(ids) > 0 && len(d.Runs) == 0 {
		hint := nearest.Hint(ids[0], s.Estate.Wards)
		if hint == "" {
			hint = "`kasbah ledger log` lists runs"
		}
		return nil, &problem.UsageError{Message: "no run and no ward is called " + strings.Join(ids, " or "), Hint: hint}
	}
	sort.SliceStable(d.Runs, func(i, j int) bool { return d.Runs[i].Began.Before(d.Runs[j].Began) })
	d.Runs = ledger.Newest(d.Runs, last)
	return d, nil
}

// Recorded is what the ledgers recorded after an entry, 0 for now, of the addresses that match
// a pattern.
func (s *Session) Recorded(ctx context.Context, pattern string, entry int64) (*ledger.Recorded, error) {
	if entry < 0 || entry > 0 && len(s.Wards) > 1 {
		return nil, problem.Usage("entries count from 1 in each ward; say which with -ward")
	}
	d := &ledger.Recorded{Format: "kasbah.ledger/1", Env: s.Env, Wards: []ledger.RecordedWard{}}
	match := propose.Pattern(pattern)
	states, err := s.statesAt(ctx, entry)
	if err != nil {
		return nil, err
	}
	found := 0
	for _, w := range s.Wards {
		st := states[w]
		list := st.Shown(match)
		found += list.Len()
		d.Wards = append(d.Wards, ledger.RecordedWard{Ward: w, Entry: st.Seq, Resources: list})
	}
	if found == 0 && pattern != "**" {
		var known []string
		for _, w := range s.Wards {
			known = append(known, states[w].Addresses()...)
		}
		return nil, &problem.UsageError{Message: pattern + " is not recorded", Hint: nearest.Hint(pattern, known)}
	}
	return d, nil
}

// statesAt is what the ledgers of the session's wards said after an entry; 0 is now.
func (s *Session) statesAt(ctx context.Context, entry int64) (map[string]*ledger.State, error) {
	if entry == 0 {
		return s.States(ctx)
	}
	st, err := s.At(ctx, s.Wards[0], entry)
	return map[string]*ledger.State{s.Wards[0]: st}, err
}

// Export is all that the session's wards have recorded.
func (s *Session) Export(ctx context.Context) (*ledger.Export, error) {
	states, err := s.States(ctx)
	if err != nil {
		return nil, err
	}
	d := &ledger.Export{Format: "kasbah.export/1", Estate: s.Estate.Name, Env: s.Env, Wards: []ledger.ExportWard{}}
	for _, w := range s.Wards {
		st := states[w]
		d.Wards = append(d.Wards, ledger.ExportWard{Ward: w, Entry: st.Seq, Hash: st.Hash, Published: st.Published,
			Reads: st.Reads, Resources: st.Shown(func(string) bool { return true })})
	}
	return d, nil
}

// Published is what the session's wards publish, as the last run left it: all values, or the one
// of this name.
func (s *Session) Published(ctx context.Context, name string, users bool) (*ledger.ValuesDocument, error) {
	states, err := s.States(ctx)
	if err != nil {
		return nil, err
	}
	d := &ledger.ValuesDocument{Format: "kasbah.published/1", Env: s.Env, Wards: map[string]value.Attributes{},
		Order: s.Wards}
	for _, w := range s.Wards {
		all := states[w].Published
		v, ok := all[name]
		switch {
		case name == "":
			d.Wards[w] = value.Attributes{}
			maps.Copy(d.Wards[w], all)
		case ok:
			d.Wards[w] = value.Attributes{name: v}
		default:
			return nil, &problem.UsageError{Message: w + " publishes no " + name, Hint: nearest.Hint(name,
				value.Keys(all))}
		}
	}
	if users {
		d.Users = map[string]map[string][]string{}
		by := s.Users(ctx, s.Others())
		for _, w := range s.Wards {
			d.Users[w] = map[string][]string{}
			for n := range d.Wards[w] {
				d.Users[w][n] = append([]string{}, by[w+" "+n]...)
			}
		}
	}
	return d, nil
}

// Holders are the runs that hold locks in the session's wards, and the calls without a result.
func (s *Session) Holders(ctx context.Context) (*ledger.HolderList, error) {
	states, err := s.States(ctx)
	if err != nil {
		return nil, err
	}
	d := &ledger.HolderList{Format: "kasbah.lock/1", Env: s.Env, Holders: []ledger.Holder{}}
	for _, w := range s.Wards {
		for _, r := range states[w].Holders() {
			d.Holders = append(d.Holders, ledger.HolderOf(w, r))
		}
		d.Unresolved = append(d.Unresolved, states[w].Unresolved()...)
	}
	return d, nil
}

// Break takes the locks of a run away, which is named by its id or a part of it. It returns the
// wards where the run held one.
func (s *Session) Break(ctx context.Context, id, why string) (run string, wards []string, err error) {
	states, err := s.States(ctx)
	if err != nil {
		return "", nil, err
	}
	var ids []string
	for _, st := range states {
		ids = append(ids, value.Keys(st.Open)...)
	}
	if run, err = ledger.FindRun(ids, id); err != nil {
		return "", nil, err
	}
	for _, w := range s.Wards {
		if states[w].Open[run] == nil {
			continue
		}
		if err := s.Ledgers[w].Break(ctx, run, why, ""); err != nil {
			return run, wards, err
		}
		wards = append(wards, w)
	}
	return run, wards, nil
}

// Compare compares the ledgers of two environments, or of one ward after two entries, as two
// words say; without the second it compares an entry with now. wards limits it; the session
// that it opens for each environment comes from open.
func Compare(ctx context.Context, c Config, words []string, open func(context.Context, Config) (*Session, error)) (
	*propose.Comparison, error) {
	e, err := FindEstate(c.Dir)
	if err != nil {
		return nil, err
	}
	d := &propose.Comparison{Format: "kasbah.compare/1", Wards: []propose.WardComparison{}}
	if len(words) == 2 && e.HasEnvironment(words[0]) && e.HasEnvironment(words[1]) {
		var sides [2]map[string]*ledger.State
		var wards []string
		for i, env := range words {
			c.Env = env
			s, err := open(ctx, c)
			if err != nil {
				return nil, err
			}
			if sides[i], err = s.Load(ctx); err != nil {
				return nil, err
			}
			wards = s.Wards
		}
		d.A, d.B = words[0], words[1]
		for _, w := range wards {
			if err := d.Add(w, sides[0][w], sides[1][w]); err != nil {
				return nil, err
			}
		}
		return d, nil
	}
	return d, compareEntries(ctx, c, e.Environments(), words, d, open)
}

func compareEntries(ctx context.Context, c Config, environments, words []string, d *propose.Comparison,
	open func(context.Context, Config) (*Session, error)) error {
	var at [2]int64
	names := [2]string{"", "now"}
	for i, word := range words {
		var err error
		if at[i], err = strconv.ParseInt(word, 10, 64); err != nil || at[i] < 1 {
			return &problem.UsageError{Message: fmt.Sprintf("%q is neither an entry nor one of two environments", word),
				Hint: nearest.Hint(word, environments)}
		}
		names[i] = "entry " + word
	}
	s, err := open(ctx, c)
	if err != nil {
		return err
	}
	if len(s.Wards) > 1 {
		return problem.Usage("entries count from 1 in each ward; say which with -ward")
	}
	d.A, d.B = names[0], names[1]
	var sides [2]*ledger.State
	for i := range sides {
		if sides[i], err = s.At(ctx, s.Wards[0], at[i]); err != nil {
			return err
		}
	}
	return d.Add(s.Wards[0], sides[0], sides[1])
}

// begin is how a run of its own begins that changes ledgers alone.
func begin(command, reason string) ledger.BeginOptions {
	return ledger.BeginOptions{ID: ulid.Make().String(), Command: command, Reason: reason}
}

// Reseal makes those who read and write by kasbah.toml the readers and writers of the session's
// ledgers. What was done comes with an error, too.
func (s *Session) Reseal(ctx context.Context, command, reason string) (*ledger.ResealedWards, error) {
	o := begin(command, reason)
	d := &ledger.ResealedWards{Format: "kasbah.reseal/1", Env: s.Env, Run: o.ID, Wards: []ledger.ResealedWard{}}
	readers := 0
	if s.Box != nil {
		readers = len(s.Box.Recipients)
	}
	opens, err := s.Opener()
	if err != nil {
		return d, err
	}
	wards, err := s.withJournal(ctx)
	if err != nil {
		return d, err
	}
	for _, w := range wards {
		reseal := s.Ledgers[w].Reseal
		if opens != nil {
			reseal = func(ctx context.Context, o ledger.BeginOptions) (bool, error) {
				return s.Ledgers[w].Unseal(ctx, opens, o)
			}
		}
		var unsigned *ledger.UnsignedError
		_, before := s.Ledgers[w].Load(ctx)
		_ = errors.As(before, &unsigned) // anything else the reseal tells itself
		changed, err := reseal(ctx, o)
		if err != nil {
			return d, err
		}
		if changed && unsigned != nil {
			s.tell("%s, %s: its entries up to now are not signed. They are trusted because this machine has read "+
				"them before.", w, s.Env)
		}
		d.Wards = append(d.Wards, ledger.ResealedWard{Ward: w, Changed: changed, Readers: readers,
			Signed: len(s.Estate.Writers(s.Env, w)) > 0, Opened: opens != nil})
	}
	return d, nil
}

// Prune deletes the oldest entries of the session's ledgers, all but so many of the newest.
// What was done comes with an error, too.
func (s *Session) Prune(ctx context.Context, keep int64, command, reason string) (*ledger.PrunedWards, error) {
	d := &ledger.PrunedWards{Format: "kasbah.prune/1", Env: s.Env, Wards: []ledger.PrunedWard{}}
	wards, err := s.withJournal(ctx)
	if err != nil {
		return d, err
	}
	for _, w := range wards {
		upTo, err := s.Ledgers[w].Prune(ctx, keep, begin(command, reason))
		if err != nil {
			return d, err
		}
		d.Wards = append(d.Wards, ledger.PrunedWard{Ward: w, UpTo: upTo})
	}
	return d, nil
}

// Verify checks the session's ledgers. What was found before an error comes with it.
func (s *Session) Verify(ctx context.Context) (*ledger.VerifiedWards, error) {
	d := &ledger.VerifiedWards{Format: "kasbah.verify/1", Env: s.Env, Wards: map[string]*ledger.Verified{}}
	wards, err := s.withJournal(ctx)
	if err != nil {
		return d, err
	}
	for _, w := range wards {
		v, err := s.Ledgers[w].Verify(ctx)
		if err != nil {
			return d, err
		}
		d.Wards[w], d.Order = v, append(d.Order, w)
	}
	return d, nil
}

// Accept notes that the ledger of the session's ward was lost or restored on purpose and ends
// at an entry.
func (s *Session) Accept(ctx context.Context, entry int64, command, reason string) error {
	switch {
	case len(s.Wards) != 1:
		return problem.Usage("entries count from 1 in each ward: say which ward's ledger was restored")
	case reason == "":
		return problem.Usage("-accept needs a reason: -why \"…\"")
	}
	return s.Ledgers[s.Wards[0]].Accept(ctx, entry, begin(command, reason))
}

// Move copies the session's ledgers into another store, with these settings of [ledger], and
// closes the old place.
func (s *Session) Move(ctx context.Context, settings value.Map, command, reason string) (*ledger.Moved, error) {
	st, err := s.OpenStore(ctx, settings)
	var wrong *problem.Problem
	switch {
	case settings["store"] == nil:
		return nil, problem.Usage("-to needs the kind of store as well, such as -to store=postgres")
	case errors.As(err, &wrong): // it was typed, and is in no file
		return nil, &problem.UsageError{Message: "-to: " + wrong.Message, Hint: wrong.Hint}
	case err != nil:
		return nil, err
	}
	s.CloseLater(st.Close)
	called, _ := settings["store"].(string)
	wards, err := s.withJournal(ctx)
	if err != nil {
		return nil, err
	}
	var ledgers []*ledger.Ledger
	for _, w := range wards {
		ledgers = append(ledgers, s.Ledgers[w])
	}
	done, err := ledger.MoveAll(ctx, ledgers, st, called, begin(command, reason))
	if err == nil {
		done.Env = s.Env
	}
	return done, err
}

// WardsAndRuns tells names of the wards of the estate around a folder from ids of runs.
func WardsAndRuns(dir string, names []string) (wards, runs []string, err error) {
	e, err := FindEstate(dir)
	if err != nil {
		return nil, nil, err
	}
	for _, s := range names {
		if !e.HasWard(s) && ledger.LooksLikeRun(s) {
			runs = append(runs, s)
		} else {
			wards = append(wards, s)
		}
	}
	return wards, runs, nil
}
