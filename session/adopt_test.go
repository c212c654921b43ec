package session_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/adopt"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/survey"
	"kasbah/core/value"
	"kasbah/session"
)

// TestReadIDs: pairs come as CSV, with or without titles, and as JSON, as an object or a list.
func TestReadIDs(t *testing.T) {
	want := []string{"medina.bucket/a=b-1", "shore:medina.bucket/b=b-2"}
	for _, c := range []struct{ name, body, wrong string }{
		{"titles", "Address,ID\nmedina.bucket/a,b-1\nshore:medina.bucket/b, b-2\n", ""},
		{"no titles", "\ufeffmedina.bucket/a,b-1\n# note\n\"shore:medina.bucket/b\",b-2", ""},
		{"object", `{"shore:medina.bucket/b": "b-2", "medina.bucket/a": "b-1"}`, ""},
		{"list", `[{"address": "medina.bucket/a", "id": "b-1"}, {"address": "shore:medina.bucket/b", "id": "b-2"}]`, ""},
		{"one column", "medina.bucket/a\n", "ids: record on line 1: wrong number of fields; each line has an address, a comma and an id"},
		{"half a list", `[{"address": "medina.bucket/a"}]`, "ids: item 0 has no address, or no id"},
		{"not JSON", `{"a"`, "ids: unexpected end of JSON input"},
	} {
		t.Run(c.name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "ids")
			require.NoError(t, os.WriteFile(file, []byte(c.body), 0o600))
			got, err := session.ReadIDs(file)
			if c.wrong != "" {
				require.EqualError(t, err, c.wrong)
				return
			}
			require.NoError(t, err)
			require.Equal(t, want, got)
		})
	}
}

// TestFindProperty: random estates are enacted and lose their ledgers. What -find finds is recorded
// as it was; what is missing, what was changed and what is of others is told, and none of that taken.
func TestFindProperty(t *testing.T) {
	cases := 15
	if os.Getenv("THOROUGH") != "" {
		cases = 200
	}
	if testing.Short() {
		cases = 3
	}
	for seed := range cases {
		t.Run(fmt.Sprint(seed), func(t *testing.T) { findOnce(t, uint64(seed)) })
	}
}

func findOnce(t *testing.T, seed uint64) {
	ctx, rng := context.Background(), rand.New(rand.NewPCG(seed, 21))
	dir := t.TempDir()
	write(t, dir, randomEstate(rng))
	open := func() *session.Session {
		s, err := session.Open(ctx, config(dir, ""))
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, s.Close()) })
		return s
	}
	records := func() map[string]*ledger.Record {
		states, err := open().States(ctx)
		require.NoError(t, err)
		out := map[string]*ledger.Record{}
		for ward, s := range states {
			for address, st := range s.Records {
				r, err := st.Record()
				require.NoError(t, err)
				out[value.InWard(ward, address)] = r
			}
		}
		return out
	}
	enactAll(t, open())
	_, err := open().Survey(ctx, survey.Asked{})
	require.NoError(t, err)
	before := records()
	require.NoError(t, os.RemoveAll(filepath.Join(dir, ".kasbah", "ledger")))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, ".kasbah", "seen")))

	at, err := open().Medina(ctx, "")
	require.NoError(t, err)
	hand, err := at.ByHand(ctx, "keeper-9")
	require.NoError(t, err)
	changed, missing := map[string]bool{}, map[string]bool{}
	for _, full := range value.Keys(before) {
		r := before[full]
		_, typ := propose.SplitType(r.Type)
		if typ != "machine" && typ != "bucket" {
			continue
		}
		switch rng.IntN(6) {
		case 0:
			if typ == "bucket" {
				_, err = hand.Delete(ctx, typ, r.ID)
				missing[full] = true
			}
		case 1:
			pair := "versions=true"
			if typ == "machine" {
				pair = "size=large"
			}
			_, err = hand.Edit(ctx, typ, r.ID, []string{pair})
			_, declared := r.Inputs[map[string]string{"machine": "size", "bucket": "versions"}[typ]]
			changed[full] = declared
		}
		require.NoError(t, err)
	}
	for i := range rng.IntN(4) {
		_, err = hand.Create(ctx, "bucket", []string{fmt.Sprintf("name=of-others-%d", i)})
		require.NoError(t, err)
	}
	require.NoError(t, hand.Driver.Close())

	x, err := open().Adoptable(ctx)
	require.NoError(t, err)
	pairs, err := x.Find(ctx, session.AdoptRequest{}, nil)
	require.NoError(t, err)
	told := map[string]string{}
	for _, p := range pairs.Certain {
		told[p.Full()] = "certain"
		if p.Because != nil {
			told[p.Full()] = "differs"
		}
		require.Equal(t, before[p.Full()].ID, p.ID)
	}
	for _, p := range pairs.Likely {
		told[p.Full()] = "likely"
	}
	for _, r := range pairs.Rest {
		told[value.InWard(r.Ward, r.Address)] = "nothing"
		require.NotEmpty(t, r.Because)
	}
	require.Len(t, told, len(before), "each is told")
	for full := range before {
		switch {
		case missing[full]:
			require.Contains(t, []string{"nothing", "likely"}, told[full], "%s is gone", full)
		case changed[full]:
			require.Equal(t, "differs", told[full], "%s was changed", full)
		default:
			require.Equal(t, "certain", told[full], "%s: %+v", full, pairs)
		}
	}

	adoptAll(t, open(), &session.Adopting{Things: pairs.Things()})
	after := records()
	for _, full := range value.Keys(after) {
		require.Equal(t, "certain", told[full])
	}
	require.Len(t, after, len(pairs.Things()))
	for full, r := range after {
		was := *before[full]
		was.Run, was.Changed, was.Version, was.Seen, was.Tag = r.Run, r.Changed, r.Version, r.Seen, r.Tag
		was.Live, was.Absent = r.Live, r.Absent // what the cloud decides has moved with what was made later
		require.Equal(t, &was, r)
		for name := range r.Inputs {
			require.Equal(t, before[full].Live[name], r.Live[name], "%s %s", full, name)
		}
	}
	same := func(why string) {
		p, err := open().Propose(ctx, session.Request{Rehearse: "never", Anew: true})
		require.NoError(t, err)
		for _, a := range p.Proposal.Actions {
			if told[a.Full()] == "certain" {
				require.Equal(t, propose.Same, a.Kind, "%s: %s %+v", why, a.Full(), a.Changes)
			}
		}
	}
	same("adopted")

	// what differs is taken into the code: adopted and as declared then, or told why not
	left := map[string]bool{}
	_, err = open().Adopt(ctx, session.AdoptRequest{Find: true, TakeOver: true}, session.AdoptTalk{
		Found: func(*adopt.Pairs) error { return nil },
		Changes: func(p *session.Settling) error {
			for _, d := range p.Decided {
				left[d.Full()] = true
				require.Error(t, d.Err)
			}
			require.Empty(t, p.Moves)
			return nil
		},
		MayWrite: func(context.Context, *session.Settling) error { return nil },
		TakeTurn: func(_ context.Context, s *session.Session, a *session.Adopting) error {
			for full := range a.Things {
				require.False(t, left[full], full)
				told[full] = "certain"
			}
			adoptAll(t, s, a)
			return nil
		},
	})
	require.NoError(t, err)
	taken := 0
	for full, differed := range changed {
		if differed && told[full] == "certain" {
			taken++
		}
		if told[full] == "differs" && !left[full] {
			t.Errorf("%s differs; it is neither taken over nor left", full)
		}
	}
	same("taken over")
	t.Logf("%d taken over, %d left", taken, len(left))
}
