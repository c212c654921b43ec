package ledger_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"kasbah/core/ledger"
	"kasbah/core/seal"
	"kasbah/core/store"
	"kasbah/core/value"
	"kasbah/stores/memory"
)

// keeper is somebody with a key, and with a machine that remembers.
type keeper struct {
	id   *age.X25519Identity
	seen map[string]ledger.Head // ledger -> number and hash
}

func newKeeper(t *testing.T) *keeper {
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	return &keeper{id: id, seen: map[string]ledger.Head{}}
}

func (k *keeper) public() string { return k.id.Recipient().String() }

func (k *keeper) Newest(name string) (ledger.Head, error) { return k.seen[name], nil }

func (k *keeper) Remember(name string, newest ledger.Head) error {
	k.seen[name] = newest
	return nil
}

// ledger is the ledger as the keeper's machine sees it, with some recipients
// in kasbah.toml.
func (k *keeper) ledger(t *testing.T, s store.Store, e seal.Estate, to ...string) *ledger.Ledger {
	return k.pinned(t, s, e.Pin(), e, to...)
}

// after is the pin of an estate's key that follows others.
func after(now seal.Estate, former ...seal.Estate) seal.Pin {
	p := now.Pin()
	for _, e := range former {
		p.Former = append(p.Former, e.Pin().Digest)
	}
	return p
}

// pinned is the ledger as the keeper's machine sees it, with some pins in kasbah.toml. e is
// on the machine.
func (k *keeper) pinned(t *testing.T, s store.Store, pin seal.Pin, e seal.Estate, to ...string) *ledger.Ledger {
	l, err := ledger.New(s, "coast", "live", "shore", ledger.Identity{Who: "keeper", Host: "tower", Program: "test"})
	require.NoError(t, err)
	b, err := seal.NewBox(pin, to, func() ([]age.Identity, error) { return []age.Identity{k.id}, nil })
	require.NoError(t, err)
	b.Fetch = func(context.Context) (seal.Estate, error) { return e, nil }
	l.SealWith(b)
	l.RememberIn(k)
	return l
}

const hiddenText = "a-word-that-nobody-may-read"

// work does a run that records some resources.
func work(t *testing.T, l *ledger.Ledger, run string, resources int) {
	ctx := context.Background()
	r, err := l.Begin(ctx, ledger.BeginOptions{ID: run, Command: "enact " + hiddenText})
	require.NoError(t, err)
	for i := range resources {
		rec := &ledger.Record{Address: fmt.Sprintf("medina.bucket/%s-%s-%d", hiddenText, run, i), Type: "medina.bucket",
			ID: fmt.Sprintf("%s-%d", run, i), Inputs: value.Attributes{"name": hiddenText}}
		in := ledger.Intent{ID: fmt.Sprint(i), Address: rec.Address, Type: rec.Type, Action: "new", Call: "create",
			Plan: rec}
		require.NoError(t, r.Append(ctx, ledger.Line{Kind: ledger.KindIntent, Intent: &in}))
		require.NoError(t, r.Append(ctx, ledger.Line{Kind: ledger.KindResult, Result: &ledger.Result{Intent: in.ID,
			Address: rec.Address, Outcome: ledger.Done, Record: rec}}))
	}
	require.NoError(t, r.End(ctx, ledger.End{Outcome: "done"}))
	if resources > 1 {
		require.NoError(t, r.After(ctx, []string{"scan at enacted: passed"}))
	}
}

// picture is all that a state says, as text.
func picture(t *testing.T, s *ledger.State) string {
	var all []any
	for _, a := range s.Addresses() {
		r, err := s.Records[a].Record()
		require.NoError(t, err)
		all = append(all, r)
	}
	body, err := json.Marshal([]any{s.Seq, s.Hash, all, s.Holders(), s.Intents, s.Values, s.Notes})
	require.NoError(t, err)
	return string(body)
}

func everything(t *testing.T, s store.Store) map[string][]byte {
	out := map[string][]byte{}
	for k, err := range s.List(context.Background(), "", "") {
		require.NoError(t, err)
		body, err := s.Get(context.Background(), k)
		require.NoError(t, err)
		out[k] = body
	}
	return out
}

func refilled(t *testing.T, all map[string][]byte) *memory.Store {
	s := memory.New()
	for k, body := range all {
		require.NoError(t, s.PutIfAbsent(context.Background(), k, body))
	}
	return s
}

// TestReaders: who is admitted reads from the reseal on, who is dismissed no
// longer, and nothing that is stored says anything in clear.
func TestReaders(t *testing.T) {
	ctx := context.Background()
	s, e := memory.New(), seal.NewEstate()
	first, second := newKeeper(t), newKeeper(t)
	l := first.ledger(t, s, e, first.public())
	work(t, l, "one", 3)
	_, err := second.ledger(t, s, e, first.public()).Load(ctx)
	require.ErrorIs(t, err, seal.ErrNoIdentity)
	require.ErrorContains(t, err, "entry 1 of the ledger of shore: it is sealed to keys that are not on this machine")

	both := []string{first.public(), second.public()}
	l = first.ledger(t, s, e, both...)
	_, err = l.Begin(ctx, ledger.BeginOptions{ID: "early"})
	var readers *ledger.ReadersError
	require.ErrorAs(t, err, &readers)
	require.Equal(t, []string{second.public()}, readers.Extra)
	changed, err := l.Reseal(ctx, ledger.BeginOptions{ID: "reseal"})
	require.NoError(t, err)
	require.True(t, changed)
	theirs := second.ledger(t, s, e, both...)
	got, err := theirs.Load(ctx)
	require.NoError(t, err)
	require.Len(t, got.Records, 3)
	work(t, second.ledger(t, s, e, both...), "two", 2)
	runs, unread, err := theirs.History(ctx)
	require.NoError(t, err)
	require.Equal(t, int64(10), unread, "nine of the first run, and the reseal's begin")
	require.Len(t, runs, 1, "the runs before are sealed to others")

	// who goes knows the estate's key, so it does not stay
	_, err = first.ledger(t, s, e, first.public()).Reseal(ctx, ledger.BeginOptions{ID: "reseal-2"})
	require.ErrorContains(t, err, "the estate still has the key that they know")
	next := e.Rekeyed()
	mine := func() *ledger.Ledger { return first.pinned(t, s, after(next, e), next, first.public()) }
	var old *ledger.OldKeyError
	fresh := &keeper{id: first.id, seen: map[string]ledger.Head{}}
	_, err = fresh.pinned(t, s, after(next, e), next, first.public()).Load(ctx)
	require.ErrorAs(t, err, &old)
	require.NotContains(t, err.Error(), "reseal`", "nothing is advised about what was not seen here")
	_, err = fresh.pinned(t, s, after(next, e), next, first.public()).Reseal(ctx, ledger.BeginOptions{ID: "reseal-3"})
	require.ErrorContains(t, err, "has not read it in this state")
	_, err = fresh.pinned(t, s, after(next, e), next, first.public()).Reseal(ctx, ledger.BeginOptions{ID: "reseal-3"})
	require.ErrorContains(t, err, "has not read it in this state", "to have looked at it when it was refused is not "+
		"to have seen it")
	_, err = first.ledger(t, s, e, both...).Load(ctx)
	require.NoError(t, err)
	_, err = mine().Load(ctx)
	require.ErrorContains(t, err, "`kasbah ledger reseal` proves it by the new key")
	changed, err = mine().Reseal(ctx, ledger.BeginOptions{ID: "reseal-4"})
	require.NoError(t, err)
	require.True(t, changed)
	work(t, mine(), "three", 1)
	_, err = second.ledger(t, s, e, both...).Load(ctx)
	require.Error(t, err)
	got, err = mine().Load(ctx)
	require.NoError(t, err)
	require.Len(t, got.Records, 6)
	for k, body := range everything(t, s) {
		require.NotContains(t, string(body), hiddenText, k)
		require.NotContains(t, k, hiddenText)
	}
	v, err := mine().Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, v.Notes)
}

// TestSealLater: a ledger that was in clear is sealed by a reseal, and opened
// by another one; in between nobody writes.
func TestSealLater(t *testing.T) {
	ctx := context.Background()
	s, e, k := memory.New(), seal.NewEstate(), newKeeper(t)
	then := newKeeper(t) // what was seen in clear
	clear := func() *ledger.Ledger {
		l, err := ledger.New(s, "coast", "live", "shore", ledger.Identity{Who: "keeper"})
		require.NoError(t, err)
		l.RememberIn(then)
		return l
	}
	work(t, clear(), "one", 2)
	var not *ledger.NotSealedError
	_, err := k.ledger(t, s, e, k.public()).Load(ctx)
	require.ErrorAs(t, err, &not)
	require.NotContains(t, err.Error(), "reseal", "nothing is advised about what was not seen here")
	_, err = k.ledger(t, s, e, k.public()).Reseal(ctx, ledger.BeginOptions{ID: "seal"})
	require.ErrorContains(t, err, "it is in clear, and this machine has not read it in this state")
	seen := k.ledger(t, s, e, k.public())
	seen.SeenOpen(then)
	_, err = seen.Load(ctx)
	require.ErrorContains(t, err, "`kasbah ledger reseal` seals it")
	_, err = seen.Reseal(ctx, ledger.BeginOptions{ID: "seal"})
	require.NoError(t, err)
	work(t, k.ledger(t, s, e, k.public()), "two", 2)
	_, err = clear().Load(ctx)
	require.ErrorContains(t, err, "does not say how")
	onPurpose := clear()
	onPurpose.OpenOnPurpose()
	_, err = onPurpose.Load(ctx)
	require.ErrorContains(t, err, `kasbah.toml says seal = "off"`)
	got, err := k.ledger(t, s, e, k.public()).Load(ctx)
	require.NoError(t, err)
	require.Len(t, got.Records, 4)

	// and back: not while it records a secret
	hidden := func(text string) {
		r, err := k.ledger(t, s, e, k.public()).Begin(ctx, ledger.BeginOptions{ID: "hidden" + text})
		require.NoError(t, err)
		rec := &ledger.Record{Address: "medina.machine/gauge", Type: "medina.machine", ID: "mac-1"}
		if text != "" {
			rec.Hidden = value.Attributes{"notes": text}
		}
		require.NoError(t, r.Append(ctx, ledger.Line{Kind: ledger.KindNote, Note: &ledger.Note{What: "test",
			Record: rec}}))
		require.NoError(t, r.End(ctx, ledger.End{Outcome: "done"}))
	}
	box := func() *seal.Box {
		b, err := seal.NewBox(e.Pin(), []string{k.public()}, func() ([]age.Identity,
			error) {
			return []age.Identity{k.id}, nil
		})
		require.NoError(t, err)
		return b
	}
	hidden("a word")
	_, err = clear().Unseal(ctx, box(), ledger.BeginOptions{ID: "open"})
	require.ErrorContains(t, err, "stays sealed: it records secrets of medina.machine/gauge")
	hidden("")
	changed, err := clear().Unseal(ctx, box(), ledger.BeginOptions{ID: "open"})
	require.NoError(t, err)
	require.True(t, changed)
	work(t, clear(), "three", 1)
	got, err = clear().Load(ctx)
	require.NoError(t, err)
	require.Len(t, got.Records, 6)
}

// forge makes an object of somebody who knows the recipients and the format,
// and has no identity.
func forge(t *testing.T, key string, e seal.Estate, to string) []byte {
	other := seal.NewEstate()
	other.ID = e.ID
	b, err := seal.NewBox(other.Pin(), []string{to}, func() ([]age.Identity, error) { return nil, nil })
	require.NoError(t, err)
	require.NoError(t, b.Learn(other))
	scratch := memory.New()
	l, err := ledger.New(scratch, "coast", "live", "shore", ledger.Identity{Who: "somebody"})
	require.NoError(t, err)
	b.Fetch = func(context.Context) (seal.Estate, error) { return other, nil }
	stranger := newKeeper(t)
	open, err := seal.NewBox(other.Pin(), []string{stranger.public()}, func() ([]age.Identity,
		error) {
		return []age.Identity{stranger.id}, nil
	})
	require.NoError(t, err)
	require.NoError(t, open.Learn(other))
	l.SealWith(open)
	work(t, l, "forged", 1)
	body, err := scratch.Get(context.Background(), "coast/live/shore/log/0000000001")
	require.NoError(t, err)
	plain, err := open.Open("coast/live/shore/log/0000000001", body)
	require.NoError(t, err)
	out, err := seal.Seal(other, key, plain.Plain, []string{to})
	require.NoError(t, err)
	return out
}

// TestTampering tampers with what is stored, 1 000 times, in CI a share: it is always noticed
// with words that name the object, or makes no difference at all.
func TestTampering(t *testing.T) {
	ctx := context.Background()
	e, k := seal.NewEstate(), newKeeper(t)
	s := memory.New()
	to := []string{k.public()}
	var copies []map[string][]byte // whole old copies
	for i := range 3 {
		work(t, k.ledger(t, s, e, to...), fmt.Sprintf("run-%d", i), 3)
		if i == 1 {
			to = append(to, newKeeper(t).public())
			_, err := k.ledger(t, s, e, to...).Reseal(ctx, ledger.BeginOptions{ID: "r1"}) // writes a checkpoint
			require.NoError(t, err)
			to = append(to, newKeeper(t).public())
			_, err = k.ledger(t, s, e, to...).Reseal(ctx, ledger.BeginOptions{ID: "r2"})
			require.NoError(t, err)
		}
		copies = append(copies, everything(t, s))
	}
	whole := copies[len(copies)-1]
	state, err := k.ledger(t, s, e, to...).Load(ctx)
	require.NoError(t, err)
	want := picture(t, state)
	var keys []string
	for key := range whole {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	forged := map[string][]byte{}
	for _, key := range keys {
		forged[key] = forge(t, key, e, k.public())
	}
	rnd := rand.New(rand.NewPCG(1, 5))
	times := 250
	switch {
	case os.Getenv("THOROUGH") != "":
		times = 1000
	case testing.Short():
		times = 50
	}
	noticed, harmless := map[string]int{}, map[string]int{}
	for range times {
		all := map[string][]byte{}
		for key, body := range whole {
			all[key] = body
		}
		key, other := keys[rnd.IntN(len(keys))], keys[rnd.IntN(len(keys))]
		kind := []string{"flip", "cut", "remove", "reorder", "replace", "forge", "clear", "tail",
			"old copy"}[rnd.IntN(9)]
		switch kind {
		case "flip":
			all[key] = bytes.Clone(all[key])
			all[key][rnd.IntN(len(all[key]))] ^= 1 << rnd.IntN(8)
		case "cut":
			all[key] = all[key][:rnd.IntN(len(all[key]))]
		case "remove":
			delete(all, key)
		case "reorder":
			all[key], all[other] = all[other], all[key]
		case "replace":
			all[key] = all[other]
		case "forge":
			all[key] = forged[key]
		case "clear":
			all[key] = []byte("somebody's own words")
		case "tail":
			for i := len(keys) - 1; i > len(keys)-1-rnd.IntN(4)-1; i-- {
				delete(all, keys[i])
			}
		case "old copy":
			all = copies[rnd.IntN(len(copies)-1)]
		}
		machine := &keeper{id: k.id, seen: map[string]ledger.Head{}}
		for name, at := range k.seen {
			machine.seen[name] = at
		}
		now := refilled(t, all)
		got, loadErr := machine.ledger(t, now, e, to...).Load(ctx)
		if loadErr == nil {
			require.Equal(t, want, picture(t, got), "%s %s: another state, and nobody noticed", kind, key)
		}
		_, verifyErr := machine.ledger(t, now, e, to...).Verify(ctx)
		err := errors.Join(loadErr, verifyErr)
		same := len(all) == len(whole)
		for key, body := range whole {
			same = same && bytes.Equal(all[key], body)
		}
		switch {
		case err != nil:
			noticed[kind]++
			require.Regexp(t, `(entry|checkpoint) \d+`, err.Error(), "%s %s", kind, key)
			require.NotContains(t, err.Error(), hiddenText)
		default:
			harmless[kind]++
			onlyCheckpoints := true
			for k := range whole {
				onlyCheckpoints = onlyCheckpoints && (all[k] != nil || strings.Contains(k, "/checkpoint/"))
			}
			require.True(t, same || onlyCheckpoints, "%s %s: nobody noticed", kind, key)
		}
	}
	t.Logf("noticed %v, made no difference %v", noticed, harmless)
}

// TestRestored: an old copy that was put back is noticed, and accepted with a
// reason; machines that have seen more of it go on.
func TestRestored(t *testing.T) {
	ctx := context.Background()
	e, first, second := seal.NewEstate(), newKeeper(t), newKeeper(t)
	to := []string{first.public(), second.public()}
	s := memory.New()
	work(t, first.ledger(t, s, e, to...), "one", 1)
	backup := everything(t, s)
	work(t, first.ledger(t, s, e, to...), "two", 1)
	_, err := second.ledger(t, s, e, to...).Load(ctx)
	require.NoError(t, err)
	s = refilled(t, backup)
	var back *ledger.RollbackError
	for _, k := range []*keeper{first, second} {
		_, err = k.ledger(t, s, e, to...).Load(ctx)
		require.ErrorAs(t, err, &back)
		require.ErrorContains(t, err, "kasbah ledger verify shore -accept 4 -why")
	}
	require.ErrorContains(t, first.ledger(t, s, e, to...).Accept(ctx, 3, ledger.BeginOptions{ID: "a"}),
		"ends at entry 4, not at 3")
	require.NoError(t, first.ledger(t, s, e, to...).Accept(ctx, 4, ledger.BeginOptions{ID: "a",
		Reason: "the disk was lost"}))
	for _, k := range []*keeper{first, second} {
		got, err := k.ledger(t, s, e, to...).Load(ctx)
		require.NoError(t, err)
		require.Len(t, got.Records, 1)
	}
}
