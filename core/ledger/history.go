package ledger

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/core/value"
)

// RunSummary is one run of the history.
type RunSummary struct {
	Run     string         `json:"run"`
	Ward    string         `json:"ward,omitempty"`
	Who     string         `json:"who"`
	Host    string         `json:"host"`
	Program string         `json:"program"`
	Command string         `json:"command"`
	Reason  string         `json:"reason,omitempty"`
	Commit  string         `json:"commit,omitempty"` // of the estate's repository
	Began   time.Time      `json:"began"`
	Ended   *time.Time     `json:"ended,omitempty"`
	Outcome string         `json:"outcome"`       // done, failed, stopped, broken, open
	Why     string         `json:"why,omitempty"` // of a broken one
	Counts  map[string]int `json:"counts,omitempty"`
	Rules   []string       `json:"rules,omitempty"`  // what house rules said without stopping it
	Steps   []string       `json:"steps,omitempty"`  // that ran, each as `NAME at STAGE: outcome`
	Failed  []string       `json:"failed,omitempty"` // what failed, each as `ADDRESS: why`
	Copies  []string       `json:"copies,omitempty"` // that were kept of what was removed, each as `ADDRESS: ID`
	First   int64          `json:"first"`            // entries
	Last    int64          `json:"last"`
	Calls   []Call         `json:"calls,omitempty"`
}

// begun is a run of which nothing but its first entry is known.
func begun(e *Entry, begin *Begin) *RunSummary {
	return &RunSummary{Run: e.Run, Who: e.Who, Host: e.Host, Program: e.Program, Command: begin.Command,
		Reason: begin.Reason, Commit: begin.Commit, Began: e.Time, Outcome: "open", First: e.Seq, Last: e.Seq}
}

func (r *RunSummary) ended(e *Entry, end *End) {
	at := e.Time
	r.Steps, r.Ended, r.Outcome, r.Counts, r.Rules, r.Failed, r.Copies = end.Steps, &at, end.Outcome, end.Counts, end.Rules, end.Failed,
		end.Copies
	r.Last = max(r.Last, e.Seq)
}

func (r *RunSummary) after(a *After) { r.Steps = append(slices.Clone(r.Steps), a.Steps...) }

func (r *RunSummary) broken(e *Entry, b *Break) { r.Outcome, r.Why, r.Last = "broken", b.Why, e.Seq }

// Call is a call of a run, as the log has it.
type Call struct {
	Address string  `json:"address"`
	Action  string  `json:"action"`
	Call    string  `json:"call"`
	Outcome string  `json:"outcome"` // "open" when no result stands
	Seconds float64 `json:"seconds,omitempty"`
	Error   string  `json:"error,omitempty"`
}

// call is a change that needs none, as a call of the log; nil for other notes.
func (n *Note) call() *Call {
	c := &Call{Call: "record", Outcome: string(Done)}
	switch {
	case n.What == NoteAdopted && n.Record != nil:
		c.Address, c.Action = n.Record.Address, "adopt"
	case n.What == NoteReleased:
		c.Address, c.Action = n.Dropped, "release"
	default:
		return nil
	}
	return c
}

// History lists the runs of the log with their calls, oldest first, and counts the entries that
// are sealed to keys which are not here: what they say is missing.
func (l *Ledger) History(ctx context.Context) (runs []*RunSummary, unread int64, err error) {
	return l.history(ctx, nil)
}

// Runs is History without the calls, which are most of a long log: they are not decoded.
func (l *Ledger) Runs(ctx context.Context) (runs []*RunSummary, unread int64, err error) {
	runs, unread, err = l.history(ctx, isCall)
	for _, r := range runs {
		r.Calls = nil // there are those that are noted
	}
	return runs, unread, err
}

func (l *Ledger) history(ctx context.Context, over passing) (runs []*RunSummary, unread int64, err error) {
	open := map[string]*RunSummary{}
	calls := map[string]int{} // run and intent -> index into the run's calls
	for e, err := range l.entries(ctx, 0, 0, nil, over) {
		if errors.Is(err, seal.ErrNoIdentity) {
			unread++
			continue
		}
		if errors.Is(err, store.ErrBlank) {
			continue
		}
		if err != nil {
			return nil, unread, err
		}
		for _, line := range e.Lines {
			r := open[e.Run]
			switch {
			case line.Kind == KindBegin:
				r = begun(e, line.Begin)
				r.Ward = l.Ward
				open[e.Run] = r
				runs = append(runs, r)
			case line.Kind == KindBreak:
				if b := open[line.Break.Run]; b != nil {
					b.broken(e, line.Break)
				}
			case r == nil:
			case line.Kind == KindIntent:
				in := line.Intent
				calls[e.Run+" "+in.ID] = len(r.Calls)
				r.Calls = append(r.Calls, Call{Address: in.Address, Action: in.Action, Call: in.Call, Outcome: "open"})
			case line.Kind == KindResult:
				of := line.Result.Run
				if of == "" {
					of = e.Run
				}
				if i, ok := calls[of+" "+line.Result.Intent]; ok && open[of] != nil {
					c := &open[of].Calls[i]
					c.Outcome, c.Seconds, c.Error = string(line.Result.Outcome), line.Result.Seconds, line.Result.Error
				}
			case line.Kind == KindNote:
				if c := line.Note.call(); c != nil {
					r.Calls = append(r.Calls, *c)
				}
			case line.Kind == KindEnd:
				r.ended(e, line.End)
			case line.Kind == KindAfter:
				r.after(line.After)
			}
		}
		if r := open[e.Run]; r != nil {
			r.Last = max(r.Last, e.Seq)
		}
	}
	return runs, unread, nil
}

// Verified is what Verify found.
type Verified struct {
	Entries int64 `json:"entries"`
	// entries that only a checkpoint vouches for: pruned, or sealed to others
	Pruned      int64    `json:"pruned,omitempty"`
	Checkpoints int      `json:"checkpoints"`
	Records     int      `json:"records"`
	Notes       []string `json:"notes"` // what a reader ignores
}

// Verify reads every entry and every checkpoint, follows the chain of hashes
// from the first, and compares each checkpoint with the fold of the log. A ledger that
// Load refuses is not whole either: one that this machine has seen more of, that is not
// sealed although it is to be, or that has moved.
func (l *Ledger) Verify(ctx context.Context) (*Verified, error) {
	v := &Verified{Notes: []string{}}
	if _, err := l.Load(ctx); err != nil { // what every other command would refuse is not whole
		return nil, err
	}
	keys, err := l.keys(ctx, l.prefix+"checkpoint/", "")
	if err != nil {
		return nil, err
	}
	s, err := l.provable(ctx, keys)
	if err != nil {
		return nil, err
	}
	v.Pruned = s.Seq
	keys = slices.DeleteFunc(keys, func(k string) bool { n, err := seqOf(k); return err == nil && n < s.Seq })
	for _, k := range keys {
		n, err := seqOf(k)
		if err != nil {
			return nil, err
		}
		cp, err := l.readCheckpoint(ctx, k)
		if err != nil {
			return nil, err
		}
		if err := l.advance(ctx, s, n); err != nil {
			return nil, err
		}
		if err := same(cp, s); err != nil {
			return nil, &damageError{l.Ward, fmt.Sprintf("checkpoint %d", n), err}
		}
		v.Checkpoints++
	}
	if err := l.advance(ctx, s, 0); err != nil {
		return nil, err
	}
	ids := map[string]string{}
	for _, a := range s.Addresses() {
		r, err := s.Records[a].Record()
		if err != nil {
			return nil, err
		}
		if r.ID == "" {
			continue
		}
		key := r.Type + " " + r.ID
		if other, ok := ids[key]; ok {
			v.Notes = append(v.Notes, fmt.Sprintf("%s and %s both hold %s %s", other, a, r.Type, r.ID))
		}
		ids[key] = a
	}
	v.Entries, v.Records, v.Notes = s.Seq, len(s.Records), append(v.Notes, s.Notes...)
	return v, nil
}

// same compares a checkpoint with the fold up to the same entry.
func same(cp, s *State) error {
	if cp.Seq != s.Seq || cp.Hash != s.Hash {
		return fmt.Errorf("it stands for entry %d with another hash", cp.Seq)
	}
	if len(cp.Records) != len(s.Records) || len(cp.Open) != len(s.Open) || len(cp.Intents) != len(s.Intents) {
		return errors.New("it counts other records, locks or calls than the log")
	}
	for a, want := range s.Records {
		got := cp.Records[a]
		if got == nil {
			return fmt.Errorf("%s is missing", a)
		}
		g, err := got.Record()
		if err != nil {
			return err
		}
		w, err := want.Record()
		if err != nil {
			return err
		}
		if g.ID != w.ID || g.Version != w.Version || g.Run != w.Run || got.Declared != want.Declared {
			return fmt.Errorf("%s is not as the log has it", a)
		}
	}
	return nil
}

// LastChange is the run that last changed an attribute of a resource, as the
// log has it; of the resource as a whole when attribute is empty. It is nil
// when no run did.
func (l *Ledger) LastChange(ctx context.Context, address, attribute string) (*RunSummary, error) {
	var last *RunSummary
	runs := map[string]*RunSummary{}
	var before *Record
	for e, err := range l.entries(ctx, 0, 0, nil, callsOfOthers(address)) {
		if errors.Is(err, store.ErrBlank) || errors.Is(err, seal.ErrNoIdentity) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, line := range e.Lines {
			switch {
			case line.Kind == KindBegin:
				runs[e.Run] = &RunSummary{Run: e.Run, Ward: l.Ward, Who: e.Who, Host: e.Host, Program: e.Program,
					Command: line.Begin.Command, Reason: line.Begin.Reason, Began: e.Time, First: e.Seq, Last: e.Seq}
			case line.Kind == KindResult && line.Result.Address == address && line.Result.Outcome == Done:
				now := line.Result.Record
				if before == nil || now == nil || attribute == "" || !value.Equal(before.Live[attribute],
					now.Live[attribute]) || before.ID != now.ID {
					last = runs[e.Run]
				}
				before = now
			}
		}
	}
	return last, nil
}
