// Package ledger keeps the recorded state as an append-only log: records,
// history, locks and what a killed run left behind, all by one mechanism.
// docs/formats/ledger.md describes what is stored.
package ledger

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/klauspost/compress/zstd"

	"kasbah/core/alert"
	"kasbah/core/approval"
	"kasbah/core/seal"
	"kasbah/core/value"
)

// Format is the format of an entry, which its header names.
const Format = "kasbah.entry/1"

// Kind is the kind of a line of an entry.
type Kind string

const (
	KindBegin  Kind = "begin"
	KindIntent Kind = "intent"
	KindResult Kind = "result"
	KindBeat   Kind = "beat"
	KindEnd    Kind = "end"
	KindBreak  Kind = "break"
	KindAfter  Kind = "after"
	KindNote   Kind = "note"
	KindWatch  Kind = "watch" // of a journal
)

// Header is the first line of an entry.
type Header struct {
	Format  string    `json:"format"`
	Seq     int64     `json:"seq"`
	Prev    string    `json:"prev"` // SHA-256 of the stored bytes of the entry before, in hexadecimal; "" for the first
	Time    time.Time `json:"time"`
	Run     string    `json:"run"`
	Who     string    `json:"who"`
	Host    string    `json:"host"`
	Program string    `json:"program"` // version of kasbah that wrote it
	Kind    Kind      `json:"kind"`    // of its first line
}

// Line is one line of an entry. Exactly one of the pointers is set, the one
// that Kind says.
type Line struct {
	Kind   Kind    `json:"kind"`
	Begin  *Begin  `json:"begin,omitempty"`
	Intent *Intent `json:"intent,omitempty"`
	Result *Result `json:"result,omitempty"`
	Beat   *Beat   `json:"beat,omitempty"`
	End    *End    `json:"end,omitempty"`
	Break  *Break  `json:"break,omitempty"`
	After  *After  `json:"after,omitempty"`
	Note   *Note   `json:"note,omitempty"`

	Watch *alert.Line `json:"watch,omitempty"`
}

// Begin takes the lock.
type Begin struct {
	Scope    Scope   `json:"scope"`
	Command  string  `json:"command"` // as typed, without its path
	Reason   string  `json:"reason,omitempty"`
	Proposal string  `json:"proposal,omitempty"` // id
	Kept     bool    `json:"kept,omitempty"`     // the proposal is from a file, and could be used again
	Process  Process `json:"process"`
	// of the estate's repository; with `, changed` where its files are not as committed
	Commit  string   `json:"commit,omitempty"`
	Readers *Readers `json:"readers,omitempty"` // of a sealed ledger, in its first entry
	Writers *Writers `json:"writers,omitempty"` // who may write it, in its first entry
	Key     *RunKey  `json:"key,omitempty"`     // that signs what the run writes
}

// Readers are those to whom everything from an entry on is sealed. The estate
// and its key are there once, where nobody else can read them.
type Readers struct {
	Recipients []string     `json:"recipients"` // none: nothing is sealed any more
	Estate     *seal.Estate `json:"estate,omitempty"`
}

// Intent is a call to the cloud that is about to be made, whole.
type Intent struct {
	ID      string `json:"id"` // unique in its run
	Address string `json:"address"`
	Type    string `json:"type"`           // with its driver
	Action  string `json:"action"`         // new, edit, swap, drop
	Half    string `json:"half,omitempty"` // of a swap: make or remove
	// it takes back an earlier call of the run, of that action and half
	Undo    bool             `json:"undo,omitempty"`
	Call    string           `json:"call"`             // create, update, copy, delete
	Thing   string           `json:"thing,omitempty"`  // id in the cloud
	Inputs  value.Attributes `json:"inputs,omitempty"` // resolved, as they are to be
	From    value.Attributes `json:"from,omitempty"`   // of an update: the attributes that change, as they were
	To      value.Attributes `json:"to,omitempty"`     // and as they are to be
	Before  value.Attributes `json:"before,omitempty"` // what was live
	Tag     string           `json:"tag,omitempty"`
	Key     string           `json:"key"` // idempotency key
	Attempt int              `json:"attempt"`
	Plan    *Record          `json:"plan,omitempty"` // the record as it is to be, without what the cloud decides
	// Made is the id of what the call made, where that is known although its outcome is
	// not. It is folded from an unclear result.
	Made string `json:"made,omitempty"`
}

// CallCopy is the call that copies a thing.
const CallCopy = "copy"

// NoteSeen is the What of a note that says how a thing is live now. It changes a record's
// live attributes and tag alone, and so may be in a run that only reads the record.
const NoteSeen = "seen"

// NoteAdopted and NoteReleased are the What of notes by which a thing comes under management, and is
// managed no more.
const (
	NoteAdopted  = "adopted"
	NoteReleased = "released"
)

// Acceptance says that a log was lost or restored, and ended at an entry when somebody
// accepted that. It is one exception: it excuses what was seen of the entries between
// that one and the accepting one, and nothing later.
type Acceptance struct {
	Entry int64  `json:"entry"`          // 0 for a log of which nothing was left
	Hash  string `json:"hash,omitempty"` // of its stored bytes
	By    int64  `json:"by,omitempty"`   // the accepting entry; folded, never written
}

// Outcome of a call.
type Outcome string

const (
	Done       Outcome = "done"
	Failed     Outcome = "failed"
	NotStarted Outcome = "not started"
	Unclear    Outcome = "unclear" // the intent stays open
)

// Result is what became of an intent.
type Result struct {
	Intent  string  `json:"intent"`
	Run     string  `json:"run,omitempty"` // of the intent, when it is another one's
	Address string  `json:"address"`
	Outcome Outcome `json:"outcome"`
	Error   string  `json:"error,omitempty"`
	Seconds float64 `json:"seconds,omitempty"`
	Record  *Record `json:"record,omitempty"`  // what is recorded now
	Dropped bool    `json:"dropped,omitempty"` // nothing is recorded any more
	Made    string  `json:"made,omitempty"`    // of an unclear result: id of what the call made
}

// Beat says that a quiet run is alive, and how far it is.
type Beat struct {
	Done  int `json:"done"`
	Total int `json:"total"`
}

// End gives the lock back.
type End struct {
	Outcome string         `json:"outcome"` // done, failed, stopped
	Counts  map[string]int `json:"counts,omitempty"`
	Rules   []string       `json:"rules,omitempty"`  // what house rules and steps said without stopping the run
	Steps   []string       `json:"steps,omitempty"`  // that ran, each as `NAME at STAGE: outcome`
	Failed  []string       `json:"failed,omitempty"` // what failed, each as `ADDRESS: why`
	Copies  []string       `json:"copies,omitempty"` // that were kept of what was removed, each as `ADDRESS: ID`
	Values
}

// Values are what a run leaves of its ward besides records. A run that does
// not know them leaves Published nil, and all of them stay as they were.
type Values struct {
	Published value.Attributes `json:"published"` // by name
	// of those, the ones that were pending when declared, as they were
	Offered value.Attributes `json:"offered,omitempty"`
	Reads   []string         `json:"reads,omitempty"` // values of other wards, as `shore quay_ids`
	// Found are things that were looked up, by the address of the look-up
	// without its ward: their attributes.
	Found map[string]value.Attributes `json:"found,omitempty"`
}

// Break takes a lock away from a run that is dead.
type Break struct {
	Run string  `json:"run"`
	Why string  `json:"why"`
	Key *RunKey `json:"key,omitempty"` // that signs the entry
}

// After says what came of a run once it had ended. It needs no lock and changes no record.
type After struct {
	Steps []string `json:"steps"`         // that ran then, each as `NAME at STAGE: outcome`
	Key   *RunKey  `json:"key,omitempty"` // that signs the entry
}

// Note records a change that is no call.
type Note struct {
	What    string  `json:"what"`
	Record  *Record `json:"record,omitempty"`
	Dropped string  `json:"dropped,omitempty"` // the address that is recorded no more
	// Approval is the policy in force from now on; one without keys asks for no
	// signatures.
	Approval *approval.Policy `json:"approval,omitempty"`
	// Readers are new ones. The entry that says so is sealed to them alone.
	Readers *Readers `json:"readers,omitempty"`
	// Writers are new ones. One who was among the old ones and is among these signs it.
	Writers *Writers `json:"writers,omitempty"`
	// Pruned says which entries are about to be blanked, and what they were.
	Pruned *Pruned `json:"pruned,omitempty"`
	// Accepted is how earlier versions wrote an Acceptance: its entry alone.
	Accepted int64 `json:"accepted,omitempty"`
	// Acceptance excuses machines that have seen more of a log than there is now.
	Acceptance *Acceptance `json:"acceptance,omitempty"`
	// Moved is where the ledger has gone. Nothing may follow it.
	Moved string `json:"moved,omitempty"`
	// Drift is a difference between record and cloud that a person accepts.
	Drift *AcceptedDrift `json:"drift,omitempty"`
}

// AcceptedDrift is a difference between what is recorded and what is live that a person accepts
// until a day, as long as the cloud shows the same.
type AcceptedDrift struct {
	Address string `json:"address"`
	Path    string `json:"path,omitempty"` // "" for the resource as a whole, which is gone
	Found   string `json:"found"`          // SHA-256 of the canonical JSON of what is live, in hexadecimal
	Until   string `json:"until"`          // the last day, as 2026-12-31; "" when it is accepted no more
	Why     string `json:"why"`
	Who     string `json:"who"`
}

// driftKey names a difference in a state.
func driftKey(address, path string) string { return address + " " + path }

// Entry is a decoded entry.
type Entry struct {
	Header
	Lines  []Line
	Size   int    // of its stored bytes
	Hash   string // SHA-256 of its stored bytes, in hexadecimal
	Sealed bool

	sig *signature
	own bool // this run has just written it
}

// readers are those that the entry makes the ledger's, if it does.
func (e *Entry) readers() *Readers { return readersOf(e.Lines) }

func readersOf(lines []Line) *Readers {
	for _, l := range lines {
		switch {
		case l.Begin != nil && l.Begin.Readers != nil:
			return l.Begin.Readers
		case l.Note != nil && l.Note.Readers != nil:
			return l.Note.Readers
		}
	}
	return nil
}

// codec compresses and decodes. It is safe for use by many goroutines.
type codec struct {
	enc *zstd.Encoder
	dec *zstd.Decoder
}

const (
	maxEntry      = 64 << 20  // bytes of one entry, decompressed
	maxCheckpoint = 512 << 20 // bytes of one frame of a checkpoint, decompressed
)

func newCodec() (*codec, error) {
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(2),
		zstd.WithWindowSize(1<<20))
	if err != nil {
		return nil, err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(0), zstd.WithDecoderMaxMemory(maxEntry))
	if err != nil {
		return nil, err
	}
	return &codec{enc, dec}, nil
}

func hash(body []byte) string { return fmt.Sprintf("%x", sha256.Sum256(body)) }

// encode writes an entry as it is stored.
func (c *codec) encode(h Header, lines []Line) ([]byte, error) {
	body, err := linesOf(lines)
	if err != nil {
		return nil, err
	}
	return c.pack(h, body)
}

// pack is encode of lines that linesOf has written.
func (c *codec) pack(h Header, lines ...[]byte) ([]byte, error) {
	header, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	size := len(header) + 1
	for _, l := range lines {
		size += len(l)
	}
	plain := append(append(make([]byte, 0, size), header...), '\n')
	for _, l := range lines {
		plain = append(plain, l...)
	}
	if len(plain) > maxEntry {
		return nil, fmt.Errorf("an entry of %d bytes is more than the ledger holds", len(plain))
	}
	return c.enc.EncodeAll(plain, make([]byte, 0, len(plain)/2)), nil
}

// decode reads the compressed bytes of the entry number seq, without lines that are passed over, if any may
// be. The errors say what is wrong with it, not which it is.
func (c *codec) decode(seq int64, body []byte, over passing) (*Entry, error) {
	plain, err := c.dec.DecodeAll(body, nil)
	if err != nil {
		return nil, fmt.Errorf("it cannot be decompressed: %w", err)
	}
	e := &Entry{}
	var i int
	for ; len(plain) > 0; i++ {
		line := plain
		if nl := bytes.IndexByte(plain, '\n'); nl >= 0 {
			line, plain = plain[:nl], plain[nl+1:]
		} else {
			plain = nil
		}
		if i == 0 {
			if err := json.Unmarshal(line, &e.Header); err != nil {
				return nil, fmt.Errorf("its header: %w", err)
			}
			if e.Format != Format {
				return nil, fmt.Errorf("its format is %q, and this version of kasbah reads %s", e.Format, Format)
			}
			continue
		}
		if over != nil && over(line) {
			continue
		}
		var l Line
		if err := json.Unmarshal(line, &l); err != nil {
			return nil, fmt.Errorf("its line %d: %w", i+1, err)
		}
		if err := l.check(); err != nil {
			return nil, fmt.Errorf("its line %d: %w", i+1, err)
		}
		e.Lines = append(e.Lines, l)
	}
	switch {
	case e.Format == "":
		return nil, errors.New("it is empty")
	case e.Seq != seq:
		return nil, fmt.Errorf("it says that it is entry %d", e.Seq)
	case i == 1:
		return nil, errors.New("it holds nothing but its header")
	}
	return e, nil
}

// passing says of a line of an entry, as it is written, whether a reader has no use for it.
type passing func(line []byte) bool

// isCall passes over calls and what became of them.
func isCall(line []byte) bool {
	return bytes.HasPrefix(line, []byte(`{"kind":"intent",`)) || bytes.HasPrefix(line, []byte(`{"kind":"result",`))
}

// callsOfOthers passes over the calls of every resource but one.
func callsOfOthers(address string) passing {
	quoted := value.Append(nil, address)
	return func(line []byte) bool { return isCall(line) && !bytes.Contains(line, quoted) }
}

// check is an error unless the line holds what its kind says.
func (l *Line) check() error {
	known := false
	for _, c := range [...]struct {
		kind  Kind
		there bool
	}{
		{KindBegin, l.Begin != nil}, {KindIntent, l.Intent != nil}, {KindResult, l.Result != nil},
		{KindBeat, l.Beat != nil}, {KindEnd, l.End != nil}, {KindBreak, l.Break != nil},
		{KindAfter, l.After != nil}, {KindNote, l.Note != nil}, {KindWatch, l.Watch != nil},
	} {
		if c.there != (c.kind == l.Kind) {
			return fmt.Errorf("its kind is %q, which does not fit what it holds", l.Kind)
		}
		known = known || c.there
	}
	if !known {
		return fmt.Errorf("its kind %q is not known", l.Kind)
	}
	return nil
}
