package ledger

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"

	"golang.org/x/sync/errgroup"

	"kasbah/core/alert"
	"kasbah/core/approval"
	"kasbah/core/store"
)

// checkpointFormat is the format of a checkpoint.
const checkpointFormat = "kasbah.checkpoint/1"

const (
	checkpointEntries = 1000
	checkpointBytes   = 8 << 20
	frameBytes        = 1 << 20
)

// checkpointHeader is the second line of a checkpoint; the frames follow it.
// The first line is the SHA-256 of all that follows, in hexadecimal.
type checkpointHeader struct {
	Format  string        `json:"format"`
	Seq     int64         `json:"seq"`
	Hash    string        `json:"hash"`
	Open    []*OpenRun    `json:"open"`
	Intents []*OpenIntent `json:"intents"`
	Values
	Durations map[string]Duration      `json:"durations,omitempty"`
	Proposals map[string]*Use          `json:"proposals,omitempty"`
	Latest    *RunSummary              `json:"latest,omitempty"`
	Approval  *approval.Policy         `json:"approval,omitempty"`
	Readers   *Readers                 `json:"readers,omitempty"`
	Former    []generation             `json:"former,omitempty"`
	Writers   *Writers                 `json:"writers,omitempty"`
	Pruned    []Pruned                 `json:"pruned,omitempty"`
	Key       *RunKey                  `json:"key,omitempty"` // that signs the checkpoint
	Run       string                   `json:"run,omitempty"` // and whose it is
	Accepted  []Acceptance             `json:"acceptances,omitempty"`
	Drift     map[string]AcceptedDrift `json:"drift,omitempty"`
	Moved     string                   `json:"moved,omitempty"`
	Watch     *alert.State             `json:"watch,omitempty"`
	Records   int                      `json:"records"`
	Frames    []int                    `json:"frames"` // bytes of each frame
}

func (c *codec) encodeCheckpoint(s *State, run string, key *RunKey) ([]byte, error) {
	h := checkpointHeader{Format: checkpointFormat, Seq: s.Seq, Hash: s.Hash, Open: s.Holders(), Intents: s.Intents,
		Values: s.Values, Durations: s.Durations, Proposals: s.Proposals, Latest: s.Latest, Approval: s.Approval,
		Readers: s.Readers, Former: s.Former, Writers: s.Writers, Pruned: s.Pruned, Key: key, Run: run,
		Accepted: s.Accepted, Drift: s.Drift, Moved: s.Moved, Watch: s.Watch, Records: len(s.Records)}
	var frames, heads, bodies bytes.Buffer
	flush := func() {
		for _, part := range []*bytes.Buffer{&heads, &bodies} {
			frame := c.enc.EncodeAll(part.Bytes(), nil)
			h.Frames = append(h.Frames, len(frame))
			frames.Write(frame)
			part.Reset()
		}
	}
	for _, a := range s.Addresses() {
		if err := s.Records[a].appendTo(&heads, &bodies); err != nil {
			return nil, err
		}
		if bodies.Len() >= frameBytes {
			flush()
		}
	}
	if bodies.Len() > 0 {
		flush()
	}
	out, err := json.Marshal(h)
	if err != nil {
		return nil, err
	}
	out = append(append(out, '\n'), frames.Bytes()...)
	return append([]byte(hash(out)+"\n"), out...), nil
}

// decodeCheckpoint reads a checkpoint. check holds its header against its signature.
func (c *codec) decodeCheckpoint(seq int64, body []byte, check func(*checkpointHeader) error) (*State, error) {
	sum, body, ok := bytes.Cut(body, []byte("\n"))
	if !ok || hash(body) != string(sum) {
		return nil, errors.New("its digest is not that of what it holds")
	}
	nl := bytes.IndexByte(body, '\n')
	if nl < 0 {
		return nil, errors.New("it has no header")
	}
	var h checkpointHeader
	if err := json.Unmarshal(body[:nl], &h); err != nil {
		return nil, fmt.Errorf("its header: %w", err)
	}
	if h.Format != checkpointFormat || h.Seq != seq {
		return nil, fmt.Errorf("it is of format %q and entry %d", h.Format, h.Seq)
	}
	if err := check(&h); err != nil {
		return nil, err
	}
	s := NewState()
	s.Seq, s.Hash, s.Intents, s.Values = h.Seq, h.Hash, h.Intents, h.Values
	for k, d := range h.Durations {
		s.Durations[k] = d
	}
	for id, u := range h.Proposals {
		s.Proposals[id] = u
	}
	s.Drift, s.Watch = h.Drift, h.Watch
	s.Latest, s.Approval, s.Readers, s.Former, s.Writers, s.Pruned, s.Accepted, s.Moved = h.Latest, h.Approval,
		h.Readers, h.Former, h.Writers, h.Pruned, h.Accepted, h.Moved
	for _, r := range h.Open {
		s.Open[r.Run] = r
	}
	rest := body[nl+1:]
	parts := make([][]Stored, len(h.Frames))
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	if len(h.Frames)%2 != 0 {
		return nil, errors.New("it has lines about records without the records")
	}
	for i := 0; i < len(h.Frames); i += 2 {
		n, m := h.Frames[i], h.Frames[i+1]
		if n < 0 || m < 0 || n > len(rest) || m > len(rest)-n {
			return nil, errors.New("it is cut off")
		}
		frame, in := rest[:n], &block{dec: c.dec, packed: rest[n : n+m]}
		rest = rest[n+m:]
		g.Go(func() error {
			heads, err := c.dec.DecodeAll(frame, nil)
			if err != nil {
				return fmt.Errorf("frame %d cannot be decompressed: %w", i+1, err)
			}
			if parts[i], err = parseHeads(heads, in); err != nil {
				return fmt.Errorf("frame %d: %w", i+1, err)
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	n := 0
	for _, part := range parts {
		n += len(part)
	}
	s.Records = make(map[string]*Stored, n)
	for _, part := range parts {
		for i := range part {
			s.Records[part[i].Address] = &part[i]
		}
	}
	if len(rest) > 0 || len(s.Records) != h.Records {
		return nil, fmt.Errorf("it holds %d records and says %d", len(s.Records), h.Records)
	}
	return s, nil
}

// checkpoint writes the state as a checkpoint and drops all but the two
// newest. Any writer may do so at any time; one that exists already is fine.
func (l *Ledger) checkpoint(ctx context.Context, s *State, by *signer) error {
	key, run := l.checkpointKey(s.Seq), ""
	if by != nil {
		run = by.run
	}
	body, err := l.codec.encodeCheckpoint(s, run, by.publicOf())
	if err == nil {
		body, err = l.sealed(key, by.sign(key, body), s.Readers, nil)
	}
	if err != nil {
		return err
	}
	if err := l.store.PutIfAbsent(ctx, key, body); err != nil && !errors.Is(err, store.ErrExists) {
		return fmt.Errorf("the checkpoint at entry %d could not be written: %w", s.Seq, err)
	}
	keys, err := l.keys(ctx, l.prefix+"checkpoint/", "")
	if err != nil {
		return err
	}
	for len(keys) > 2 {
		if err := l.store.Delete(ctx, keys[0]); err != nil {
			return err
		}
		keys = keys[1:]
	}
	return nil
}

// checkpointed notes that what follows is after a checkpoint.
func (s *State) checkpointed() { s.sinceEntries, s.sinceLines, s.sinceBytes = 0, 0, 0 }

// wantsCheckpoint reports whether there is enough after the last checkpoint to
// spare the next reader. A checkpoint holds every record, so that much must have
// been written since that all checkpoints of a long run stay in proportion to
// what it does.
func (s *State) wantsCheckpoint() bool {
	return (s.sinceEntries >= checkpointEntries || s.sinceBytes >= checkpointBytes) && s.sinceLines >= len(s.Records)/2
}

// long reports whether there is enough after the last checkpoint for a run that ends to write one.
// Many wards with short ledgers are read together, so what has written about as much as there is counts as well.
func (s *State) long() bool {
	return s.sinceEntries >= 200 || s.sinceLines >= 1000 || s.sinceEntries >= 30 && s.sinceLines >= len(s.Records)/2
}

func (l *Ledger) checkpointKey(seq int64) string {
	return fmt.Sprintf("%scheckpoint/%010d", l.prefix, seq)
}

func (l *Ledger) keys(ctx context.Context, prefix, after string) ([]string, error) {
	var out []string
	for k, err := range l.store.List(ctx, prefix, after) {
		if err != nil {
			return nil, err
		}
		out = append(out, k)
	}
	return out, nil
}

func seqOf(key string) (int64, error) {
	var n int64
	tail := key[strings.LastIndexByte(key, '/')+1:]
	if _, err := fmt.Sscanf(tail, "%d", &n); err != nil || len(tail) != 10 || n < 1 {
		return 0, fmt.Errorf("the store holds %q among the entries, which is none", key)
	}
	return n, nil
}
