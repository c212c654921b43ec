package ledger_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	crand "crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"filippo.io/age"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"kasbah/core/approval"
	"kasbah/core/ledger"
	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/stores/memory"
)

// The attacks of everybody who is not to be believed: whoever can write to the store, a
// reader without a writer's key, and somebody who was dismissed. They know all that was
// ever stored and the whole format, and write their bytes with code of their own.

const place = "coast/live/shore/"

// person has an identity, a writer's key, and a machine that remembers.
type person struct {
	*keeper
	signer ssh.Signer
	knows  []seal.Estate // keys of the estate, of the time when they could read
}

func newPerson(t *testing.T) *person {
	_, private, err := ed25519.GenerateKey(crand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return &person{keeper: newKeeper(t), signer: s}
}

func (p *person) writer() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(p.signer.PublicKey())))
}

// forgetful is the same person at a new machine.
func (p *person) forgetful() *person {
	return &person{keeper: &keeper{id: p.id, seen: map[string]ledger.Head{}}, signer: p.signer}
}

// history is what has happened to a ledger, and what kasbah.toml says now.
type history struct {
	t       *testing.T
	rnd     *rand.Rand
	s       *memory.Store
	keys    []seal.Estate // the last is in force
	readers []*person
	writers []*person
	gone    []*person
	runs    int
	// genuine are the pictures of all states that there ever were, by number and hash of
	// the newest entry; since says with how many keys it came about.
	genuine map[string]string
	since   map[string]int
	when    map[string]int      // in the order in which they came about
	past    []map[string][]byte // whole copies; a blank object is nil
	order   []string            // of genuine states
}

func (h *history) pin() seal.Pin {
	n := len(h.keys) - 1
	return after(h.keys[n], h.keys[:n]...)
}

func (h *history) ledger(p *person, s store.Store) *ledger.Ledger {
	var to, by []string
	for _, r := range h.readers {
		to = append(to, r.public())
	}
	for _, w := range h.writers {
		by = append(by, w.writer())
	}
	l, err := ledger.New(s, "coast", "live", "shore", ledger.Identity{Who: "somebody", Host: "tower", Program: "test",
		Sign: func(among []string) (ssh.Signer, error) {
			if (&ledger.Writers{Keys: among}).Lists(p.writer()) {
				return p.signer, nil
			}
			return nil, nil
		}})
	require.NoError(h.t, err)
	b, err := seal.NewBox(h.pin(), to, func() ([]age.Identity, error) { return []age.Identity{p.id}, nil })
	require.NoError(h.t, err)
	b.Fetch = func(context.Context) (seal.Estate, error) { return h.keys[len(h.keys)-1], nil }
	l.SealWith(b)
	l.RememberIn(p)
	l.WrittenBy(by)
	return l
}

func (h *history) copy() map[string][]byte {
	out := map[string][]byte{}
	for k, err := range h.s.List(context.Background(), "", "") {
		require.NoError(h.t, err)
		body, err := h.s.Get(context.Background(), k)
		if !errors.Is(err, store.ErrBlank) {
			require.NoError(h.t, err)
		}
		out[k] = body
	}
	return out
}

func filled(t *testing.T, all map[string][]byte) *memory.Store {
	s := memory.New()
	for k, body := range all {
		require.NoError(t, s.PutIfAbsent(context.Background(), k, body))
		if body == nil {
			require.NoError(t, s.Blank(context.Background(), k))
		}
	}
	return s
}

func stateKey(s *ledger.State) string { return fmt.Sprintf("%d %s", s.Seq, s.Hash) }

func content(t *testing.T, s *ledger.State) string {
	var all []any
	for _, a := range s.Addresses() {
		r, err := s.Records[a].Record()
		require.NoError(t, err)
		all = append(all, []any{r.Address, r.ID, r.Inputs})
	}
	body, err := json.Marshal(all)
	require.NoError(t, err)
	return string(body)
}

// note keeps every state that came about since the last one.
func (h *history) note(p *person) {
	l := h.ledger(p.forgetful(), h.s)
	now, err := l.Load(context.Background())
	require.NoError(h.t, err)
	for seq := now.Seq; seq > 0; seq-- {
		s, err := l.LoadAt(context.Background(), seq)
		if errors.Is(err, store.ErrBlank) || errors.Is(err, store.ErrNotFound) || errors.Is(err, seal.ErrNoIdentity) ||
			errors.Is(err, seal.ErrForged) {
			break
		}
		require.NoError(h.t, err)
		if _, known := h.genuine[stateKey(s)]; known {
			break
		}
		h.genuine[stateKey(s)], h.since[stateKey(s)], h.when[stateKey(s)] = content(h.t, s), len(h.keys),
			len(h.past)*10_000+int(seq)
	}
	h.order = append(h.order, stateKey(now))
	h.past = append(h.past, h.copy())
	_, err = h.ledger(p, h.s).Load(context.Background())
	require.NoError(h.t, err)
}

func (h *history) any(of []*person) *person { return of[h.rnd.IntN(len(of))] }

func (h *history) reseal(by *person) {
	changed, err := h.ledger(by, h.s).Reseal(context.Background(), ledger.BeginOptions{ID: h.run()})
	require.NoError(h.t, err)
	require.True(h.t, changed)
}

func (h *history) run() string {
	h.runs++
	return fmt.Sprintf("run-%03d", h.runs)
}

// step is something that honest people do.
func (h *history) step() {
	ctx := context.Background()
	by := h.any(h.writers)
	switch what := h.rnd.IntN(10); {
	case what < 5:
		work(h.t, h.ledger(by, h.s), h.run(), 1+h.rnd.IntN(2))
	case what < 6:
		p := newPerson(h.t)
		h.readers = append(h.readers, p)
		if h.rnd.IntN(2) == 0 {
			h.writers = append(h.writers, p)
		}
		h.reseal(by)
	case what < 8 && len(h.readers) > 2:
		i := slices.IndexFunc(h.readers, func(p *person) bool { return p != by })
		p := h.readers[i]
		_, err := h.ledger(by, h.s).Load(ctx) // while kasbah.toml is as before
		require.NoError(h.t, err)
		p.knows = slices.Clone(h.keys)
		h.gone = append(h.gone, p)
		h.readers = slices.Delete(slices.Clone(h.readers), i, i+1)
		h.writers = slices.DeleteFunc(slices.Clone(h.writers), func(w *person) bool { return w == p })
		h.keys = append(slices.Clone(h.keys), h.keys[len(h.keys)-1].Rekeyed())
		h.reseal(by)
	case what < 9:
		_, err := h.ledger(by, h.s).Prune(ctx, int64(h.rnd.IntN(10)), ledger.BeginOptions{ID: h.run()})
		require.NoError(h.t, err)
	default:
		to := memory.New()
		m, err := h.ledger(by, h.s).Move(ctx, to, ledger.BeginOptions{ID: h.run()})
		require.NoError(h.t, err)
		require.NoError(h.t, m.Finish(ctx, "elsewhere"))
		h.s = to
	}
	h.note(by)
}

// restore is a loss: an old copy of the newest key's time is put back and accepted.
func (h *history) restore() {
	last := len(h.past) - 1
	if last < 2 || h.since[h.order[last-1]] != len(h.keys) || h.rnd.IntN(3) > 0 {
		return
	}
	by := h.writers[0]
	_, err := h.ledger(by, h.s).Load(context.Background())
	require.NoError(h.t, err)
	before := h.s
	h.s = filled(h.t, h.past[last-1])
	s, err := h.ledger(by.forgetful(), h.s).Load(context.Background())
	if err == nil && s.Moved == "" {
		err = h.ledger(by, h.s).Accept(context.Background(), s.Seq, ledger.BeginOptions{ID: h.run(),
			Reason: "the disk was lost"})
	}
	if err != nil { // the copy is of other readers, or of another place
		h.s = before
		return
	}
	h.note(by)
}

func newHistory(t *testing.T, seed uint64) *history {
	first := newPerson(t)
	h := &history{t: t, rnd: rand.New(rand.NewPCG(seed, 17)), s: memory.New(), keys: []seal.Estate{seal.NewEstate()},
		readers: []*person{first}, writers: []*person{first}, genuine: map[string]string{}, since: map[string]int{},
		when: map[string]int{}}
	work(t, h.ledger(first, h.s), h.run(), 1)
	h.note(first)
	second := newPerson(t)
	h.readers, h.writers = append(h.readers, second), append(h.writers, second)
	h.reseal(first)
	h.note(first)
	for n := 5 + h.rnd.IntN(5); n > 0 || len(h.gone) == 0; n-- {
		h.step()
		h.restore()
	}
	for _, p := range append(slices.Clone(h.readers), h.writers...) { // a reader knows the key in force
		p.knows = slices.Clone(h.keys)
	}
	return h
}

// forger writes entries with code of its own.
type forger struct {
	key     *seal.Estate // nil writes in clear
	to      []string
	writer  ssh.Signer // nil signs nothing
	private ed25519.PrivateKey
	cert    map[string]any
}

func (f *forger) newRun(t *testing.T, run string) {
	if f.writer == nil {
		return
	}
	public, private, err := ed25519.GenerateKey(crand.Reader)
	require.NoError(t, err)
	sig, err := approval.Sign(f.writer, "application/vnd.kasbah.run-key", fmt.Appendf(nil, "%s\x00%s\x00%s", place, run,
		[]byte(public)))
	require.NoError(t, err)
	f.private = private
	f.cert = map[string]any{"public": []byte(public),
		"by": strings.TrimSpace(string(ssh.MarshalAuthorizedKey(f.writer.PublicKey()))), "sig": sig}
}

func (f *forger) object(t *testing.T, key string, plain []byte) []byte {
	if f.private != nil {
		message := append(append([]byte("kasbah.signed/1\n"+key), 0), plain...)
		plain = append(append([]byte("kasbah.signed/1\n"), ed25519.Sign(f.private, message)...), plain...)
	}
	if f.key == nil {
		return plain
	}
	body, err := seal.Seal(*f.key, key, plain, f.to)
	require.NoError(t, err)
	return body
}

func (f *forger) entry(t *testing.T, seq int64, prev, run string, lines ...map[string]any) (key string, body []byte) {
	head := map[string]any{"format": "kasbah.entry/1", "seq": seq, "prev": prev, "time": time.Now().UTC(), "run": run,
		"who": "keeper", "host": "tower", "program": "test", "kind": lines[0]["kind"]}
	var text bytes.Buffer
	for _, l := range append([]map[string]any{head}, lines...) {
		require.NoError(t, json.NewEncoder(&text).Encode(l))
	}
	enc, err := zstd.NewWriter(nil)
	require.NoError(t, err)
	key = fmt.Sprintf("%slog/%010d", place, seq)
	return key, f.object(t, key, enc.EncodeAll(text.Bytes(), nil))
}

func (f *forger) begin(more map[string]any) map[string]any {
	b := map[string]any{"scope": map[string]any{"whole": true}, "command": "forged", "process": map[string]any{}}
	if f.cert != nil {
		b["key"] = f.cert
	}
	for k, v := range more {
		b[k] = v
	}
	return map[string]any{"kind": "begin", "begin": b}
}

func (f *forger) forgedRecord() map[string]any {
	return map[string]any{"kind": "note", "note": map[string]any{"what": "forged",
		"record": map[string]any{"address": "medina.bucket/forged", "type": "medina.bucket", "id": "bkt-666",
			"driver_version": "1", "inputs": map[string]any{}, "live": map[string]any{}, "version": 1,
			"care": map[string]any{}, "changed": time.Now(), "run": "forged"}}}
}

func (f *forger) checkpoint(t *testing.T, seq int64, hash string, more map[string]any) (key string, body []byte) {
	head := map[string]any{"format": "kasbah.checkpoint/1", "seq": seq, "hash": hash, "open": []any{},
		"intents": []any{}, "records": 0, "frames": []int{}, "published": nil, "run": "forged"}
	if f.cert != nil {
		head["key"] = f.cert
	}
	for k, v := range more {
		head[k] = v
	}
	line, err := json.Marshal(head)
	require.NoError(t, err)
	line = append(line, '\n')
	key = fmt.Sprintf("%scheckpoint/%010d", place, seq)
	return key, f.object(t, key, append(fmt.Appendf(nil, "%x\n", sha256.Sum256(line)), line...))
}

func sum(body []byte) string { return fmt.Sprintf("%x", sha256.Sum256(body)) }

// attack is what somebody makes of a copy of the store.
func (h *history) attack(all map[string][]byte) (who string) {
	t, rnd := h.t, h.rnd
	keys := value.Keys(all)
	var last int64
	for _, k := range keys {
		if n := int64(0); strings.Contains(k, "/log/") {
			_, err := fmt.Sscanf(k[strings.LastIndexByte(k, '/')+1:], "%d", &n)
			require.NoError(t, err)
			last = max(last, n)
		}
	}
	lastKey := fmt.Sprintf("%slog/%010d", place, last)
	end := sum(all[lastKey])
	old := h.past[rnd.IntN(len(h.past))]
	key, other := keys[rnd.IntN(len(keys))], keys[rnd.IntN(len(keys))]
	var to []string
	for _, r := range h.readers {
		to = append(to, r.public())
	}
	writers := func() map[string]any {
		var list []string
		for _, w := range h.writers {
			list = append(list, w.writer())
		}
		return map[string]any{"keys": list}
	}
	put := func(k string, body []byte) { all[k] = body }
	note := func(m map[string]any) map[string]any { return map[string]any{"kind": "note", "note": m} }
	// appendBy continues the log: a run of its own, and a record that nobody enacted
	appendBy := func(f *forger, lines ...map[string]any) {
		f.newRun(t, "forged")
		k, body := f.entry(t, last+1, end, "forged", f.begin(nil))
		put(k, body)
		for i, l := range append(lines, f.forgedRecord()) {
			prev := sum(body)
			k, body = f.entry(t, last+2+int64(i), prev, "forged", l)
			put(k, body)
		}
	}
	whole := func(f *forger, more map[string]any) { // a history of their own, from the first entry on
		for _, k := range keys {
			delete(all, k)
		}
		last, end = 0, ""
		f.newRun(t, "forged")
		k, body := f.entry(t, 1, "", "forged", f.begin(more))
		put(k, body)
		prev := sum(body)
		k, body = f.entry(t, 2, prev, "forged", f.forgedRecord())
		put(k, body)
	}
	switch kind := rnd.IntN(22); kind {
	case 0:
		if len(all[key]) > 0 {
			body := bytes.Clone(all[key])
			body[rnd.IntN(len(body))] ^= 1 << rnd.IntN(8)
			all[key] = body
		}
		return "store flips a bit"
	case 1:
		if len(all[key]) > 0 {
			all[key] = all[key][:rnd.IntN(len(all[key]))]
		}
		return "store cuts"
	case 2:
		delete(all, key)
		return "store removes"
	case 3:
		all[key], all[other] = all[other], all[key]
		return "store swaps"
	case 4:
		all[key] = nil
		return "store blanks"
	case 5:
		for n := rnd.IntN(6); n >= 0; n-- {
			delete(all, fmt.Sprintf("%slog/%010d", place, last-int64(n)))
		}
		return "store cuts the end off"
	case 6:
		for _, k := range keys {
			delete(all, k)
		}
		for k, body := range old {
			all[k] = body
		}
		return "store puts an old copy back"
	case 7: // one history up to somewhere, another one from there on
		at := fmt.Sprintf("%slog/%010d", place, rnd.Int64N(last+1))
		for k, body := range old {
			if k > at == (rnd.IntN(2) == 0) || !strings.Contains(k, "/log/") {
				all[k] = body
			}
		}
		return "store merges two histories"
	case 8: // the rest of an old history behind blanks
		for k, body := range old {
			all[k] = body
		}
		for n := int64(1); n <= rnd.Int64N(last+1); n++ {
			all[fmt.Sprintf("%slog/%010d", place, n)] = nil
		}
		return "store merges behind blanks"
	case 9:
		appendBy(&forger{}, note(map[string]any{"what": "readers",
			"readers": map[string]any{"recipients": []string{}}}))
		return "store unseals in clear"
	case 10:
		whole(&forger{}, nil)
		return "store serves a ledger in clear"
	case 11:
		stranger := seal.NewEstate()
		stranger.ID = h.keys[0].ID
		appendBy(&forger{key: &stranger, to: to})
		return "store seals with a key of its own"
	case 12:
		k, body := (&forger{}).checkpoint(t, last, end, nil)
		put(k, body)
		return "store writes a checkpoint in clear"
	case 13, 14:
		p := h.any(h.readers)
		f := &forger{key: &p.knows[len(p.knows)-1], to: to}
		if kind == 14 {
			f.writer = newPerson(t).signer
		}
		appendBy(f)
		return "reader appends"
	case 15:
		p := h.any(h.readers)
		e := &p.knows[len(p.knows)-1]
		f := &forger{key: e, to: to, writer: newPerson(t).signer}
		whole(f, map[string]any{"readers": map[string]any{"recipients": to, "estate": e}, "writers": writers()})
		return "reader serves a history of their own"
	case 16, 17:
		p := h.any(h.readers)
		e := &p.knows[len(p.knows)-1]
		f := &forger{key: e, to: to}
		more := map[string]any{"readers": map[string]any{"recipients": to, "estate": e}}
		if kind == 17 {
			f.writer = newPerson(t).signer
			f.newRun(t, "forged")
			more["writers"] = map[string]any{"keys": writers()["keys"], "by": h.writers[0].writer(), "at": 1}
		}
		k, body := f.checkpoint(t, last, end, more)
		put(k, body)
		return "reader writes a checkpoint"
	}
	if len(h.gone) == 0 {
		all[key] = nil
		return "store blanks"
	}
	p := h.any(h.gone)
	e := &p.knows[len(p.knows)-1]
	f := &forger{key: e, to: append(slices.Clone(to), p.public()), writer: p.signer}
	switch rnd.IntN(4) {
	case 0:
		appendBy(f)
		return "dismissed appends"
	case 1:
		f.newRun(t, "forged")
		k, body := f.checkpoint(t, last, end, map[string]any{"readers": map[string]any{"recipients": to, "estate": e},
			"writers": map[string]any{"keys": []string{p.writer()}, "by": p.writer(), "at": 1}})
		put(k, body)
		return "dismissed writes a checkpoint"
	case 2:
		whole(f, map[string]any{"readers": map[string]any{"recipients": to, "estate": e},
			"writers": map[string]any{"keys": []string{p.writer()}}})
		return "dismissed serves a history of their own"
	}
	for _, k := range keys {
		delete(all, k)
	}
	last, end = 0, ""
	for k, body := range old { // what they could read, and more behind it
		all[k] = body
	}
	for _, k := range value.Keys(all) {
		if strings.Contains(k, "/log/") && all[k] != nil {
			_, err := fmt.Sscanf(k[strings.LastIndexByte(k, '/')+1:], "%d", &last)
			require.NoError(t, err)
			end = sum(all[k])
		}
	}
	appendBy(f)
	return "dismissed goes on from an old copy"
}

// TestAttacks plays random attacks against random histories: each is noticed, or without
// effect. Who has no memory of the ledger may be shown an older state that was genuine, and
// nothing else; a machine with a memory none that is older than it.
func TestAttacks(t *testing.T) {
	histories, attacks := 4, 30
	switch {
	case os.Getenv("THOROUGH") != "":
		histories, attacks = 40, 250
	case testing.Short():
		histories, attacks = 1, 10
	}
	var mu sync.Mutex
	noticed, harmless := map[string]int{}, map[string]int{}
	t.Run("histories", func(t *testing.T) {
		for n := range histories {
			t.Run(fmt.Sprint(n), func(t *testing.T) {
				t.Parallel()
				h := newHistory(t, uint64(n))
				whole := h.copy()
				for range attacks {
					all := map[string][]byte{}
					for k, body := range whole {
						all[k] = body
					}
					who := h.attack(all)
					for _, p := range []*person{h.any(h.readers), h.writers[0], h.any(h.readers).forgetful(),
						h.writers[0].forgetful()} {
						seen := h.suffers(p, filled(t, all), who)
						mu.Lock()
						if seen {
							noticed[who]++
						} else {
							harmless[who]++
						}
						mu.Unlock()
					}
				}
			})
		}
	})
	t.Logf("noticed %v\nwithout effect %v", noticed, harmless)
	for _, who := range []string{"store unseals in clear", "reader appends", "reader serves a history of their own",
		"dismissed appends", "dismissed serves a history of their own"} {
		require.Zero(t, harmless[who], who)
		if attacks > 100 { // fewer may miss one
			require.NotZero(t, noticed[who], who)
		}
	}
}

// suffers looks at an attacked store as a person would, and reports whether they notice.
func (h *history) suffers(p *person, s *memory.Store, who string) bool {
	t, ctx := h.t, context.Background()
	remembers := map[string]ledger.Head{}
	for k, v := range p.seen {
		remembers[k] = v
	}
	same := func() *person {
		seen := map[string]ledger.Head{}
		for k, v := range remembers {
			seen[k] = v
		}
		return &person{keeper: &keeper{id: p.id, seen: seen}, signer: p.signer}
	}
	got, err := h.ledger(same(), s).Load(ctx)
	if err == nil && got.Seq > 0 {
		want, genuine := h.genuine[stateKey(got)]
		require.True(t, genuine, "%s: entry %d is believed and was never written", who, got.Seq)
		require.Equal(t, want, content(t, got), "%s: what was recorded at entry %d is another", who, got.Seq)
		require.Equal(t, len(h.keys), h.since[stateKey(got)], "%s: a state of a former key", who)
		if seen := remembers[place]; seen.Seq > 0 {
			was := fmt.Sprintf("%d %s", seen.Seq, seen.Hash)
			require.Contains(t, h.when, was)
			require.GreaterOrEqual(t, h.when[stateKey(got)], h.when[was],
				"%s: an older state than this machine has seen", who)
		}
	}
	_, verr := h.ledger(same(), s).Verify(ctx)
	if err != nil {
		require.Error(t, verr, "%s: whole, although others refuse it", who)
		require.NotContains(t, err.Error(), hiddenText)
	}
	// whatever is advised makes nothing worse
	machine := same()
	for try := range 2 {
		changed, rerr := h.ledger(machine, s).Reseal(ctx, ledger.BeginOptions{ID: fmt.Sprint("reseal-", try)})
		if rerr != nil || !changed {
			continue
		}
		after, err := h.ledger(same(), s).Load(ctx)
		require.NoError(t, err)
		var genuine []string
		for _, c := range h.genuine {
			genuine = append(genuine, c)
		}
		require.Contains(t, genuine, content(t, after), "%s: resealing has made it the estate's own", who)
	}
	return err != nil || verr != nil
}
