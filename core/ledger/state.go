package ledger

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"sort"
	"time"

	"kasbah/core/alert"
	"kasbah/core/approval"
	"kasbah/core/seal"
	"kasbah/core/value"
)

// State is the fold of a log up to an entry.
type State struct {
	Seq       int64
	Hash      string // of the stored bytes of entry Seq
	Records   map[string]*Stored
	Open      map[string]*OpenRun      // runs that hold a lock, by id
	Intents   []*OpenIntent            // calls without result, oldest first
	Values                             // as the last run that knew them left them
	Notes     []string                 // what a reader ignores, and why; verify reports it
	Durations map[string]Duration      // what calls took, by DurationKey
	Proposals map[string]*Use          // kept proposals that were begun, by id
	Latest    *RunSummary              // the run that began last, without its calls; nil when none has
	Approval  *approval.Policy         // in force; nil when no signature is needed
	Readers   *Readers                 // to whom it is sealed; nil when it is not
	Former    []generation             // keys of the estate that were in force before, oldest first
	Writers   *Writers                 // who may write it; nil when nothing says so
	Pruned    []Pruned                 // what was blanked, oldest first
	Moved     string                   // where the ledger has gone; "" while it is here
	Accepted  []Acceptance             // of lost or restored ends, in their order
	Drift     map[string]AcceptedDrift // that people accept, by address and path
	Watch     *alert.State             // of a journal; nil for the ledger of a ward

	held  map[thing]string  // address; nil until it is asked for
	onEnd func(*RunSummary) // hears of runs that end; may be nil

	sinceEntries int   // since the last checkpoint
	sinceLines   int   // in these
	sinceBytes   int64 // of stored entries
}

// Duration is what calls of one kind took.
type Duration struct {
	Mean float64 `json:"mean"` // seconds; the newest calls weigh most
	N    int     `json:"n"`    // calls seen
}

// DurationKey names a kind of call: a type with its driver, and create, update
// or delete.
func DurationKey(typ, call string) string { return typ + " " + call }

// remembered is how many calls a mean remembers.
const remembered = 20

// took folds one call into the durations.
func (s *State) took(typ, call string, seconds float64) {
	key := DurationKey(typ, call)
	d := s.Durations[key]
	d.N++
	d.Mean += (seconds - d.Mean) / float64(min(d.N, remembered))
	s.Durations[key] = d
}

// Use is what became of a proposal that was kept in a file.
type Use struct {
	Runs    []string  `json:"runs"` // that began with it
	Began   time.Time `json:"began"`
	Outcome string    `json:"outcome"`         // of the last run; "" while it is open
	Acted   bool      `json:"acted,omitempty"` // a run did more than begin
	Spent   bool      `json:"spent,omitempty"` // a run ended done or undone: it may not be used again
	By      string    `json:"by,omitempty"`    // that run
}

// OpenRun is a run that holds a lock.
type OpenRun struct {
	Run     string    `json:"run"`
	Who     string    `json:"who"`
	Host    string    `json:"host"`
	Since   time.Time `json:"since"`
	Last    time.Time `json:"last"`     // of its newest entry, by its own clock
	LastSeq int64     `json:"last_seq"` // of its newest entry
	Begin   Begin     `json:"begin"`
	Done    int       `json:"done"`
	Total   int       `json:"total"`
}

// OpenIntent is a call whose result is not known.
type OpenIntent struct {
	Run    string    `json:"run"`
	At     time.Time `json:"at"` // of its entry, by the writer's clock
	Intent Intent    `json:"intent"`
}

// NewState is the state of a ledger that holds some records and nothing else.
func NewState(records ...*Record) *State {
	s := &State{Records: make(map[string]*Stored, len(records)), Open: map[string]*OpenRun{},
		Durations: map[string]Duration{}, Proposals: map[string]*Use{}}
	for _, r := range records {
		s.Records[r.Address] = stored(r, 0)
	}
	return s
}

// snapshot is a copy that does not move with s.
func (s *State) snapshot() *State {
	out := *s
	out.Records, out.Durations, out.Intents, out.Notes = maps.Clone(s.Records), maps.Clone(s.Durations),
		slices.Clone(s.Intents), slices.Clone(s.Notes)
	out.Accepted, out.Former, out.Pruned, out.held = slices.Clone(s.Accepted), slices.Clone(s.Former),
		slices.Clone(s.Pruned), nil
	out.Drift, out.onEnd = maps.Clone(s.Drift), nil
	out.Open, out.Proposals = make(map[string]*OpenRun, len(s.Open)), make(map[string]*Use, len(s.Proposals))
	for id, r := range s.Open {
		run := *r
		out.Open[id] = &run
	}
	for id, u := range s.Proposals {
		use := *u
		use.Runs = slices.Clone(u.Runs)
		out.Proposals[id] = &use
	}
	if s.Latest != nil {
		latest := *s.Latest
		out.Latest = &latest
	}
	if s.Watch != nil {
		out.Watch = s.Watch.Clone()
	}
	return &out
}

// Addresses lists the recorded addresses in byte order.
func (s *State) Addresses() []string { return value.Keys(s.Records) }

// Holders lists the runs that hold a lock, oldest first.
func (s *State) Holders() []*OpenRun {
	out := make([]*OpenRun, 0, len(s.Open))
	for _, r := range s.Open {
		out = append(out, r)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Since.Before(out[j].Since) })
	return out
}

// holds is the oldest run whose lock a scope meets, and where; nil for none.
func (s *State) holds(scope Scope) (*OpenRun, string) {
	for _, r := range s.Holders() {
		if address, meets := scope.Meets(r.Begin.Scope); meets {
			return r, address
		}
	}
	return nil, ""
}

// Locked is a *LockedError when a run holds a lock that a scope meets.
func (s *State) Locked(ward string, scope Scope) error {
	if r, address := s.holds(scope); r != nil {
		return &LockedError{Ward: ward, Holder: r, Address: address}
	}
	return nil
}

// RecordedAs is the address under which a thing of a type is recorded, as a leftover
// too, or "".
func (s *State) RecordedAs(typ, id string) string {
	if s.held == nil {
		s.held = make(map[thing]string, len(s.Records))
		for a, st := range s.Records {
			s.hold(a, st)
		}
	}
	return s.held[thing{typ, id}]
}

// hold notes the things that a record holds, and release forgets them.
func (s *State) hold(address string, st *Stored) {
	for t := range st.things() {
		s.held[t] = address
	}
}

func (s *State) release(address string) {
	st := s.Records[address]
	if s.held == nil || st == nil {
		return
	}
	for t := range st.things() {
		if s.held[t] == address {
			delete(s.held, t)
		}
	}
}

// drop takes a record away.
func (s *State) drop(address string) {
	s.release(address)
	delete(s.Records, address)
	maps.DeleteFunc(s.Drift, func(_ string, d AcceptedDrift) bool { return d.Address == address })
}

// heldTwice is the thing of a record that another one holds already, and that one's
// address; "" for none. without is an address whose record goes with the same line.
func (s *State) heldTwice(r *Record, without string) (what, by string) {
	for t := range r.things() {
		if by := s.RecordedAs(t.typ, t.id); by != "" && by != r.Address && by != without {
			return t.String(), by
		}
	}
	return "", ""
}

func (s *State) ignore(e *Entry, format string, args ...any) {
	s.Notes = append(s.Notes, fmt.Sprintf("entry %d: ", e.Seq)+fmt.Sprintf(format, args...))
}

// fold applies the next entry. Errors mean that the log is damaged; what a
// writer did against the rules is ignored and noted.
func (s *State) fold(e *Entry) error {
	if e.Seq != s.Seq+1 {
		return fmt.Errorf("entry %d follows entry %d", e.Seq, s.Seq)
	}
	if e.Prev != s.Hash {
		return fmt.Errorf("entry %d does not continue entry %d: it names another one before it", e.Seq, s.Seq)
	}
	if s.Moved != "" {
		return fmt.Errorf("entry %d follows the one that says that the ledger has moved", e.Seq)
	}
	if err := s.sealedRight(e); err != nil {
		return err
	}
	if err := s.signedRight(e); err != nil {
		return fmt.Errorf("entry %d: %w", e.Seq, err)
	}
	s.Seq, s.Hash = e.Seq, e.Hash
	s.sinceEntries++
	s.sinceLines += len(e.Lines)
	s.sinceBytes += int64(e.Size)
	for i := range e.Lines {
		s.line(e, &e.Lines[i])
	}
	if run := s.Open[e.Run]; run != nil {
		run.Last, run.LastSeq = e.Time, e.Seq
	}
	if s.Latest != nil && s.Latest.Run == e.Run {
		s.Latest.Last = e.Seq
	}
	return nil
}

// sealedRight takes an entry's new readers, and is an error for one that is
// sealed where nothing is, or the other way round: another program wrote it. The entry that
// opens a sealed ledger is the last that is sealed.
func (s *State) sealedRight(e *Entry) error {
	to := e.readers()
	begins := to != nil && len(to.Recipients) > 0
	switch {
	case s.Readers != nil && !e.Sealed:
		return fmt.Errorf("entry %d: %w", e.Seq, seal.ErrClear)
	case s.Readers == nil && e.Sealed && !begins:
		return fmt.Errorf("entry %d is sealed, and the ledger is not", e.Seq)
	case s.Readers == nil && !e.Sealed && begins:
		return fmt.Errorf("entry %d is not sealed and says that the ledger is", e.Seq)
	}
	if to != nil {
		s.change(to, e.Seq)
	}
	return nil
}

func (s *State) line(e *Entry, l *Line) {
	switch l.Kind {
	case KindBegin:
		s.begin(e, l.Begin)
		return
	case KindBreak:
		s.breakLock(e, l.Break)
		return
	case KindAfter:
		if s.Latest != nil && s.Latest.Run == e.Run {
			s.Latest.after(l.After)
		}
		return
	}
	run := s.Open[e.Run]
	if run == nil {
		s.ignore(e, "a line of kind %s from run %s, which holds no lock", l.Kind, e.Run)
		return
	}
	if beyond := run.Begin.Scope.exceeds(l, s.Records); beyond != "" {
		s.ignore(e, "a line of kind %s from run %s, which has not locked %s", l.Kind, e.Run, beyond)
		if l.Kind != KindEnd {
			return
		}
	}
	if u := s.Proposals[run.Begin.Proposal]; u != nil && (l.Kind == KindIntent || l.Kind == KindNote) {
		u.Acted = true
	}
	switch l.Kind {
	case KindIntent:
		s.Intents = append(s.Intents, &OpenIntent{Run: e.Run, At: e.Time, Intent: *l.Intent})
	case KindResult:
		s.result(e, l.Result, run)
	case KindBeat:
		run.Done, run.Total = l.Beat.Done, l.Beat.Total
	case KindNote:
		s.note(e, l.Note, run)
	case KindWatch:
		if s.Watch == nil {
			s.Watch = alert.NewState()
		}
		if why := s.Watch.Fold(e.Time, e.Run, l.Watch); why != "" {
			s.ignore(e, "%s", why)
		}
	case KindEnd:
		s.end(e, l.End, run)
	}
}

// begin opens a run, unless another one holds what it locks.
func (s *State) begin(e *Entry, b *Begin) {
	begin := *b
	if !begin.Scope.Whole { // another program may have written it
		begin.Scope = NewScope(begin.Scope.Writes, begin.Scope.Reads)
	}
	if other, _ := s.holds(begin.Scope); other != nil || s.Open[e.Run] != nil {
		s.ignore(e, "run %s begins while another one holds the lock", e.Run)
		return
	}
	s.Latest = begun(e, b)
	s.Open[e.Run] = &OpenRun{Run: e.Run, Who: e.Who, Host: e.Host, Since: e.Time, Begin: begin}
	if b.Kept {
		u := s.Proposals[b.Proposal]
		if u == nil {
			u = &Use{Began: e.Time}
			s.Proposals[b.Proposal] = u
		}
		u.Runs, u.Outcome = append(u.Runs, e.Run), ""
	}
}

// breakLock ends the lock of a run that cannot end it itself.
func (s *State) breakLock(e *Entry, b *Break) {
	if run := s.Open[b.Run]; run == nil {
		s.ignore(e, "it breaks the lock of run %s, which holds none", b.Run)
	} else if u := s.Proposals[run.Begin.Proposal]; u != nil {
		u.Outcome = "broken"
	}
	if s.Latest != nil && s.Latest.Run == b.Run {
		s.Latest.broken(e, b)
	}
	s.tellEnd(s.Open[b.Run], func(r *RunSummary) { r.broken(e, b) })
	s.close(b.Run)
}

// tellEnd tells a follower of a run that ends.
func (s *State) tellEnd(run *OpenRun, end func(*RunSummary)) {
	if s.onEnd == nil || run == nil {
		return
	}
	r := &RunSummary{Run: run.Run, Who: run.Who, Host: run.Host, Command: run.Begin.Command, Reason: run.Begin.Reason,
		Commit: run.Begin.Commit, Began: run.Since}
	end(r)
	s.onEnd(r)
}

// close takes a run's lock away, and what it has claimed.
func (s *State) close(run string) {
	delete(s.Open, run)
	if s.Watch != nil {
		s.Watch.Release(run)
	}
}

// note takes what a run notes beside its calls.
func (s *State) note(e *Entry, n *Note, run *OpenRun) {
	if n.Dropped != "" {
		s.drop(n.Dropped)
		if n.Record == nil {
			run.Done++
		}
	}
	switch {
	case n.Acceptance != nil:
		s.Accepted = append(s.Accepted, Acceptance{n.Acceptance.Entry, n.Acceptance.Hash, e.Seq})
	case n.Accepted > 0:
		s.Accepted = append(s.Accepted, Acceptance{Entry: n.Accepted, By: e.Seq})
	}
	if d := n.Drift; d != nil {
		key := driftKey(d.Address, d.Path)
		if delete(s.Drift, key); d.Until != "" {
			if s.Drift == nil {
				s.Drift = map[string]AcceptedDrift{}
			}
			s.Drift[key] = *d
		}
	}
	if n.Moved != "" {
		s.Moved = n.Moved
	}
	if n.Pruned != nil {
		s.Pruned = append(s.Pruned, *n.Pruned)
	}
	if p := n.Approval; p != nil {
		if s.Approval = p; len(p.Keys) == 0 {
			s.Approval = nil
		}
	}
	if n.Record != nil {
		if err := s.put(n.Record, e.Seq); err != nil {
			s.ignore(e, "%v", err)
		}
	}
}

// end closes a run, with what it publishes.
func (s *State) end(e *Entry, end *End, run *OpenRun) {
	if end.Published != nil && run.Begin.Scope.MayWrite(PublishedValues) {
		s.Values = end.Values
	}
	if u := s.Proposals[run.Begin.Proposal]; u != nil {
		u.Outcome = end.Outcome
		if !u.Spent && (u.Outcome == "done" || u.Outcome == "undone") {
			u.Spent, u.By = true, e.Run
		}
	}
	if s.Latest != nil && s.Latest.Run == e.Run {
		s.Latest.ended(e, end)
	}
	s.tellEnd(run, func(r *RunSummary) { r.ended(e, end) })
	s.close(e.Run)
}

func (s *State) result(e *Entry, r *Result, run *OpenRun) {
	of := r.Run
	if of == "" {
		of = e.Run
	}
	for i, in := range s.Intents {
		if in.Run == of && in.Intent.ID == r.Intent && in.Intent.Address == r.Address {
			if r.Outcome == Unclear {
				known := *in
				known.Intent.Made = r.Made
				s.Intents[i] = &known
				return
			}
			s.Intents = append(s.Intents[:i:i], s.Intents[i+1:]...)
			if r.Outcome == Done && r.Seconds > 0 {
				s.took(in.Intent.Type, in.Intent.Call, r.Seconds)
			}
			if r.Outcome == Done && (r.Dropped || r.Record != nil && r.Record.Whole() && r.Record.Declared != "") {
				run.Done++ // the last half of its action
			}
			switch {
			case r.Dropped:
				s.drop(r.Address)
			case r.Record != nil:
				if err := s.put(r.Record, e.Seq); err != nil {
					s.ignore(e, "%v", err)
				}
			}
			return
		}
	}
	s.ignore(e, "a result for the call %s of run %s, which is not open", r.Intent, of)
}

// Unresolved lists the open calls of runs that hold no lock any more.
func (s *State) Unresolved() []*OpenIntent {
	var out []*OpenIntent
	for _, in := range s.Intents {
		if s.Open[in.Run] == nil {
			out = append(out, in)
		}
	}
	return out
}

// AcceptedDrift is the acceptance of a difference, by the address and path of what is live; nil
// where it is not accepted, the cloud shows something else by now, or the acceptance ended
// before today, a day as 2026-12-31.
func (s *State) AcceptedDrift(address, path string, found any, today string) *AcceptedDrift {
	d, ok := s.Drift[driftKey(address, path)]
	if !ok || d.Until < today || d.Found != FoundDigest(found) {
		return nil
	}
	return &d
}

// FoundDigest is the digest of what is live, for AcceptedDrift.Found.
func FoundDigest(v any) string {
	sum := sha256.Sum256(value.Encode(v))
	return hex.EncodeToString(sum[:])
}
