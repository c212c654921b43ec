package ledger

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/klauspost/compress/zstd"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// Record is what the ledger knows of one resource.
type Record struct {
	Address       string           `json:"address"` // without its ward
	Type          string           `json:"type"`    // with its driver
	DriverVersion string           `json:"driver_version"`
	ID            string           `json:"id"`     // in the cloud; "" between the halves of a drop-first swap
	Inputs        value.Attributes `json:"inputs"` // last enacted, resolved
	Live          value.Attributes `json:"live"`   // all attributes, last seen
	// Absent are the attributes that the driver's description had and the cloud did not show
	// when it was last seen: one that is in neither Live nor Absent was not described then.
	Absent    []string    `json:"absent,omitempty"`
	Needs     []string    `json:"needs,omitempty"` // addresses with their ward
	Care      schema.Care `json:"care"`
	Kit       string      `json:"kit,omitempty"` // that declared it, the outermost
	Tag       string      `json:"tag,omitempty"`
	Version   int64       `json:"version"` // grows with id, inputs, needs and care
	Changed   time.Time   `json:"changed"`
	Run       string      `json:"run"`
	Seen      string      `json:"seen,omitempty"` // the run that has read live again since, and found it moved
	Leftovers []Leftover  `json:"leftovers,omitempty"`
	// Hidden are the secret attributes in clear: those given and those that the
	// cloud has made. Only a sealed ledger holds any.
	Hidden value.Attributes `json:"hidden,omitempty"`
	// Copies are those that a run has made of things that it is about to remove.
	Copies []Copy `json:"copies,omitempty"`
	// MovingTo is the address in another ward whose ledger is about to record the
	// thing instead, by a rename that has not ended.
	MovingTo string `json:"moving_to,omitempty"`
	// Declared is the fingerprint of the declaration that was enacted, its
	// pending values unresolved: the same declaration over the same needs
	// means the same inputs.
	Declared string `json:"declared,omitempty"`
}

// Copy is a copy of a thing. It is not managed.
type Copy struct {
	Of string    `json:"of"` // id in the cloud
	ID string    `json:"id"`
	At time.Time `json:"at"`
}

// Leftover is a thing of a record's past that still exists.
type Leftover struct {
	ID     string           `json:"id"`
	Type   string           `json:"type"`
	Tag    string           `json:"tag,omitempty"`
	Inputs value.Attributes `json:"inputs,omitempty"`
}

// Stored is a record as a state holds it: what a comparison needs first is at
// hand, the rest is decoded when it is asked for. It may be used by many goroutines.
type Stored struct {
	Address  string
	Type     string // with its driver
	ID       string
	Tag      string
	Needs    []string
	Declared string // fingerprint
	Whole    bool   // nothing is unfinished: it has an id and no leftovers
	Settled  bool   // when it was seen last, it was as its inputs say
	Seq      int64  // the entry in which its id, inputs or attributes changed last

	mu       sync.Mutex
	record   *Record // nil until it is decoded:
	in       *block  // that holds its JSON,
	at, size int     // from where, and how much
}

func stored(r *Record, seq int64) *Stored {
	return &Stored{
		Address: r.Address, Type: r.Type, ID: r.ID, Tag: r.Tag, Needs: r.Needs, Declared: r.Declared, Whole: r.Whole(),
		Settled: r.settled(),
		Seq:     seq, record: r,
	}
}

func (r *Record) settled() bool {
	for name, v := range r.Inputs {
		if !value.Equal(v, r.Live[name]) {
			return false
		}
	}
	return true
}

// put makes r the record of its address. What only says something else about
// care or needs does not count as a change of the resource.
func (s *State) put(r *Record, seq int64) error {
	if old := s.Records[r.Address]; old != nil {
		was, err := old.Record()
		if err != nil {
			return err
		}
		if was.ID == r.ID && value.Equal(map[string]any(was.Inputs), map[string]any(r.Inputs)) &&
			value.Equal(map[string]any(was.Live), map[string]any(r.Live)) && value.Equal(map[string]any(was.Hidden),
			map[string]any(r.Hidden)) {
			seq = old.Seq
		}
	}
	s.release(r.Address)
	now := stored(r, seq)
	if s.Records[r.Address] = now; s.held != nil {
		s.hold(r.Address, now)
	}
	return nil
}

// thing names a thing in the cloud.
type thing struct{ typ, id string }

func (t thing) String() string { return t.typ + " " + t.id }

// things are the things of a record in the cloud: its own, and its leftovers.
func (r *Record) things() iter.Seq[thing] {
	return func(yield func(thing) bool) {
		if r.ID != "" && !yield(thing{r.Type, r.ID}) {
			return
		}
		for _, l := range r.Leftovers {
			if l.ID != "" && !yield(thing{l.Type, l.ID}) {
				return
			}
		}
	}
}

// things are those of the record, which is decoded only where it may have leftovers. A record that cannot be
// read has only its own: the error shows where it is decoded.
func (s *Stored) things() iter.Seq[thing] {
	if !s.Whole {
		if r, err := s.Record(); err == nil {
			return r.things()
		}
	}
	return func(yield func(thing) bool) {
		if s.ID != "" {
			yield(thing{s.Type, s.ID})
		}
	}
}

// Whole reports whether the record has an id and no leftovers.
func (r *Record) Whole() bool { return r.ID != "" && len(r.Leftovers) == 0 }

// block is a number of records as a checkpoint holds them, compressed until
// one of them is asked for.
type block struct {
	dec    *zstd.Decoder
	packed []byte
	open   sync.Once
	plain  []byte
	err    error
}

func (b *block) bytes() ([]byte, error) {
	b.open.Do(func() {
		if b.plain, b.err = b.dec.DecodeAll(b.packed, nil); b.err != nil {
			b.err = fmt.Errorf("its frame cannot be decompressed: %w", b.err)
		}
		b.packed = nil
	})
	return b.plain, b.err
}

// Record decodes the record. It must not be changed.
func (s *Stored) Record() (*Record, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	r, err := s.read()
	if err == nil {
		s.record, s.in = r, nil
	}
	return r, err
}

// decoded is Record for those who ask once: it is not kept.
func (s *Stored) decoded() (*Record, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.read()
}

// read decodes the record unless it is at hand. s.mu is held.
func (s *Stored) read() (*Record, error) {
	if s.record != nil {
		return s.record, nil
	}
	body, err := s.body()
	r := &Record{}
	if err == nil {
		err = json.Unmarshal(body, r)
	}
	if err != nil {
		return nil, fmt.Errorf("the record of %s cannot be read: %w", s.Address, err)
	}
	return r, nil
}

// body is the JSON of the record. s.mu is held.
func (s *Stored) body() ([]byte, error) {
	if s.record != nil {
		var w writing
		w.record(s.record)
		return w.b, w.err
	}
	plain, err := s.in.bytes()
	if err != nil {
		return nil, err
	}
	if s.at < 0 || s.size < 0 || s.at+s.size > len(plain) {
		return nil, errors.New("its frame is too short")
	}
	return plain[s.at : s.at+s.size], nil
}

// Says reports whether the JSON of the record holds one of some texts, without decoding it.
func (s *Stored) Says(texts ...string) (bool, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	body, err := s.body()
	return slices.ContainsFunc(texts, func(text string) bool { return bytes.Contains(body, []byte(text)) }), err
}

// appendTo writes the record's two lines of a checkpoint: a JSON array of what
// a comparison needs first, and the record.
func (s *Stored) appendTo(heads, bodies *bytes.Buffer) error {
	s.mu.Lock()
	body, err := s.body()
	s.mu.Unlock()
	if err != nil {
		return err
	}
	heads.Write(s.appendHead(heads.AvailableBuffer(), len(body)))
	bodies.Write(body)
	bodies.WriteByte('\n')
	return nil
}

// appendHead appends the first line of a record that is written with so many bytes.
func (s *Stored) appendHead(b []byte, size int) []byte {
	text := func(text string) { b = value.AppendText(b, strings.ToValidUTF8(text, "\uFFFD")) }
	b = append(b, '[')
	for _, t := range [...]string{s.Address, s.Type, s.ID, s.Tag} {
		text(t)
		b = append(b, ',')
	}
	if s.Needs == nil {
		b = append(b, "null"...)
	} else {
		b = append(b, '[')
		for i, t := range s.Needs {
			if i > 0 {
				b = append(b, ',')
			}
			text(t)
		}
		b = append(b, ']')
	}
	b = append(b, ',')
	text(s.Declared)
	b = strconv.AppendBool(append(b, ','), s.Whole)
	b = strconv.AppendBool(append(b, ','), s.Settled)
	b = strconv.AppendInt(append(b, ','), s.Seq, 10)
	b = strconv.AppendInt(append(b, ','), int64(size), 10)
	return append(b, "]\n"...)
}

// parseHeads reads the first lines that appendTo wrote of a number of records;
// the records stay in their block. All texts share one copy of the lines.
func parseHeads(heads []byte, in *block) ([]Stored, error) {
	h := heading{dec: jsontext.NewDecoder(bytes.NewBuffer(heads)), all: string(heads)}
	out := make([]Stored, 0, bytes.Count(heads, []byte("\n")))
	at := 0
	for h.dec.PeekKind() == '[' {
		out = append(out, Stored{})
		s := &out[len(out)-1]
		s.in, s.at = in, at
		h.token('[')
		s.Address, s.Type, s.ID, s.Tag, s.Needs, s.Declared = h.text(), h.text(), h.text(), h.text(), h.texts(),
			h.text()
		s.Whole, s.Settled, s.Seq, s.size = h.truth(), h.truth(), h.number(), int(h.number())
		h.token(']')
		if h.err != nil {
			break
		}
		if s.Address == "" || s.size <= 0 {
			return nil, errors.New("a record's line does not say whose it is, or where")
		}
		at += s.size + 1
	}
	if _, err := h.dec.ReadToken(); h.err == nil && err != io.EOF {
		h.err = cmp.Or(err, errors.New("it holds something else"))
	}
	if h.err != nil {
		return nil, fmt.Errorf("a record's line: %w", h.err)
	}
	return out, nil
}

// heading reads the lines about records. After the first error it reads nothing.
type heading struct {
	dec *jsontext.Decoder
	all string // what it reads
	err error
}

func (h *heading) token(want jsontext.Kind) (t jsontext.Token) {
	if h.err != nil {
		return t
	}
	if t, h.err = h.dec.ReadToken(); h.err == nil && t.Kind() != want {
		h.err = fmt.Errorf("%s is where %s belongs", t.Kind(), want)
	}
	return t
}

func (h *heading) text() string {
	if h.err != nil {
		return ""
	}
	raw, err := h.dec.ReadValue()
	switch {
	case err != nil:
		h.err = err
	case raw.Kind() != '"':
		h.err = fmt.Errorf("%s is where a text belongs", raw.Kind())
	case bytes.IndexByte(raw, '\\') < 0:
		end := int(h.dec.InputOffset())
		return h.all[end-len(raw)+1 : end-1]
	}
	var s string
	if h.err == nil {
		h.err = json.Unmarshal(raw, &s)
	}
	return s
}

func (h *heading) texts() []string {
	if h.err == nil && h.dec.PeekKind() == 'n' {
		h.token('n')
		return nil
	}
	h.token('[')
	var out []string
	for h.err == nil && h.dec.PeekKind() == '"' {
		out = append(out, h.text())
	}
	h.token(']')
	return out
}

func (h *heading) truth() bool {
	if h.err == nil && h.dec.PeekKind() == 'f' {
		h.token('f')
		return false
	}
	h.token('t')
	return h.err == nil
}

func (h *heading) number() int64 {
	t := h.token('0')
	if h.err != nil {
		return 0
	}
	n, err := t.Int()
	h.err = err
	return n
}

// Things are the things in the cloud that the state records, leftovers among them, as `TYPE ID`, each
// with its address.
func (s *State) Things() map[string]string {
	out := make(map[string]string, len(s.Records))
	for address, st := range s.Records {
		for t := range st.things() {
			out[t.String()] = address
		}
	}
	return out
}
