package survey

import (
	"context"
	"errors"
	"iter"
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/ledger"
	"kasbah/core/schema"
	"kasbah/core/value"
)

var monday = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// sea is a cloud that shows what a test puts into it.
type sea struct {
	driver.Driver
	things []driver.Live
	events []driver.Event
	asked  []string // ids that the feed was asked about
	read   int      // events of it that were read
	fail   error
	mute   error // of the feed
}

func (s *sea) List(context.Context, string) iter.Seq2[driver.Live, error] {
	return func(yield func(driver.Live, error) bool) {
		for _, l := range s.things {
			if !yield(l, nil) {
				return
			}
		}
		if s.fail != nil {
			yield(driver.Live{}, s.fail)
		}
	}
}

func (s *sea) Read(_ context.Context, _, id string) (driver.Live, error) {
	for _, l := range s.things {
		if l.ID == id {
			return l, nil
		}
	}
	return driver.Live{}, driver.ErrGone
}

func (s *sea) Changes(_ context.Context, which driver.Events) iter.Seq2[driver.Event, error] {
	id := which.ID
	s.asked = append(s.asked, id)
	return func(yield func(driver.Event, error) bool) {
		if s.mute != nil {
			yield(driver.Event{}, s.mute)
			return
		}
		for _, e := range s.events {
			if s.read++; (id == "" || e.ID == id) && !yield(e, nil) {
				return
			}
		}
	}
}

func lamps(n int, change func(i int, r *ledger.Record, l *driver.Live)) (*sea, Options) {
	cloud := &sea{}
	var records []*ledger.Record
	for i := range n {
		id := string(rune('a'+i%26)) + strconv.Itoa(i/26)
		r := &ledger.Record{Address: "sea.lamp/" + id, Type: "sea.lamp", ID: id, Inputs: value.Attributes{"size": "s",
			"tags": value.Map{"owner": "keepers"}}, Live: value.Attributes{"size": "s", "lit": int64(1)}}
		l := &driver.Live{ID: id, Attributes: value.Map{"size": "s", "tags": value.Map{"owner": "keepers"},
			"lit": int64(1)}}
		if change != nil {
			change(i, r, l)
		}
		records = append(records, r)
		if l.ID != "" {
			cloud.things = append(cloud.things, *l)
		}
	}
	typ := &schema.Type{Name: "lamp", Attributes: []*schema.Attribute{{Name: "size", Kind: schema.Text},
		{Name: "tags", Kind: schema.MapOf}, {Name: "lit", Kind: schema.Int, Output: true},
		{Name: "code", Kind: schema.Text, Secret: true}}}
	return cloud, Options{
		Env: "trial", Wards: []string{"shore"}, States: map[string]*ledger.State{"shore": ledger.NewState(records...)},
		Drivers:  map[string]driver.Driver{"sea": cloud},
		Catalogs: map[string]*schema.Catalog{"sea": {Types: map[string]*schema.Type{"lamp": typ}}},
	}
}

func TestVerdicts(t *testing.T) {
	cloud, o := lamps(6, func(i int, r *ledger.Record, l *driver.Live) {
		switch i {
		case 1: // edited by hand, twice
			l.Attributes["size"] = "l"
			l.Attributes["tags"] = value.Map{"owner": "harbour", "extra": "x"}
			l.Attributes["lit"] = int64(2)
		case 2: // deleted by hand
			l.ID = ""
		case 3: // between the halves of a swap
			r.ID = ""
		case 4: // what others own
			r.Care.Leave = []value.Path{{value.Key("size")}, {value.Key("tags"), value.Key("seen")}}
			l.Attributes["size"] = "l"
			l.Attributes["tags"] = value.Map{"owner": "keepers", "seen": "today"}
		case 5: // only what the cloud decides moved; a secret is never compared
			l.Attributes["lit"] = int64(9)
			r.Inputs["code"] = "hidden words"
		}
	})
	cloud.events = []driver.Event{
		{At: monday.Add(3 * time.Hour), Who: "somebody", What: "edited", Type: "other", ID: "b0", Paths: []string{"size"}},
		{At: monday.Add(2 * time.Hour), Who: "keeper-3", What: "edited", Type: "lamp", ID: "b0",
			Paths: []string{"size"}},
		{At: monday.Add(time.Hour), Who: "keeper-2", What: "edited", Type: "lamp", ID: "b0", Paths: []string{"size",
			"tags"}},
		{At: monday, Who: "keeper-1", What: "created", Type: "lamp", ID: "b0"},
		{At: monday, Who: "keeper-4", What: "deleted", Type: "lamp", ID: "c0"},
	}
	o.Checked = true
	r, err := Survey(context.Background(), o)
	require.NoError(t, err)
	require.Equal(t, Counts{Matches: 3, Differs: 1, Gone: 1, Unchecked: 1}, r.Counts)
	require.True(t, r.Counts.Drifted())
	by := map[string]*Resource{}
	for _, res := range r.Resources {
		by[res.Address] = res
	}
	b := by["sea.lamp/b0"]
	require.Equal(t, Differs, b.Verdict)
	require.Equal(t, []string{"size", "tags"}, b.Checked)
	require.Len(t, b.Differences, 3)
	require.Equal(t, "size", b.Differences[0].Path)
	require.Equal(t, "s", b.Differences[0].Expected.V)
	require.Equal(t, "l", b.Differences[0].Found.V)
	require.Equal(t, "keeper-3", b.Differences[0].By, "the newest one who touched it")
	require.Equal(t, "tags.extra", b.Differences[1].Path)
	require.Nil(t, b.Differences[1].Expected.V)
	require.Equal(t, "keeper-2", b.Differences[2].By)
	require.Equal(t, []string{"lit"}, b.AlsoMoved)
	require.Equal(t, Gone, by["sea.lamp/c0"].Verdict)
	require.Equal(t, "keeper-4", by["sea.lamp/c0"].By)
	require.Equal(t, "a swap ended between its halves", by["sea.lamp/d0"].Because)
	require.Equal(t, Matches, by["sea.lamp/e0"].Verdict)
	require.Equal(t, []string{"tags"}, by["sea.lamp/e0"].Checked)
	require.Equal(t, Matches, by["sea.lamp/f0"].Verdict)
	require.NotContains(t, by["sea.lamp/f0"].Checked, "code")
	require.Equal(t, []string{"b0", "c0"}, cloud.asked, "only what drifted is asked about")
}

// TestManyDrifted: for many the feed is read once, not once each, and no further back than to
// where all is known.
func TestManyDrifted(t *testing.T) {
	cloud, o := lamps(100, func(i int, r *ledger.Record, l *driver.Live) { l.Attributes["size"] = "l" })
	for i, what := range []string{"edited", "created"} { // the newest first
		for _, l := range cloud.things {
			cloud.events = append(cloud.events, driver.Event{At: monday.Add(-time.Duration(i) * time.Hour), Who: "keeper-1",
				What: what, Type: "lamp", ID: l.ID, Paths: []string{"size"}})
		}
	}
	r, err := Survey(context.Background(), o)
	require.NoError(t, err)
	require.Equal(t, 100, r.Counts.Differs)
	require.Equal(t, []string{""}, cloud.asked)
	require.Equal(t, 100, cloud.read)
	for _, res := range r.Resources {
		require.Equal(t, "keeper-1", res.Differences[0].By)
		require.Equal(t, monday, *res.Differences[0].At)
	}

	cloud.read, cloud.events = 0, cloud.events[50:]
	r, err = Survey(context.Background(), o)
	require.NoError(t, err)
	require.Equal(t, 100, cloud.read, "what is not told is looked for as far back as to when the thing was made")
	require.Empty(t, r.Resources[slices.IndexFunc(r.Resources, func(res *Resource) bool {
		return res.ID == cloud.things[0].ID
	})].Differences[0].By)
}

// TestTagsTellTheSame: what a cloud's tag spares looking at is judged as if it were
// looked at.
func TestTagsTellTheSame(t *testing.T) {
	spared := 0
	for seed := range uint64(20) {
		rnd := rand.New(rand.NewPCG(seed, 7))
		_, o := lamps(500, func(i int, r *ledger.Record, l *driver.Live) {
			r.Tag, l.Tag = "1", "1"
			if rnd.IntN(3) > 0 { // as the cloud shows it once all that is declared was sent
				r.Live["tags"] = value.Map{"owner": "keepers"}
			}
			switch rnd.IntN(12) {
			case 0:
				l.Tag, l.Attributes["size"] = "2", "l"
			case 1: // edited, and back again
				l.Tag = "3"
			case 2:
				l.ID = ""
			case 3:
				r.ID = ""
			case 4: // recorded as it was found, not as it was declared
				r.Inputs["size"] = "m"
			case 5:
				r.Tag, l.Tag = "", ""
			case 6:
				r.Leftovers = []ledger.Leftover{{ID: "old"}}
			case 7:
				r.Care.Leave, l.Tag, l.Attributes["size"] = []value.Path{{value.Key("size")}}, "2", "l"
			case 8:
				l.Tag, l.Attributes["lit"] = "2", int64(5)
			}
			if r.ID != "" && l.Tag == r.Tag { // the same tag is the same attributes
				l.Attributes = value.CloneMap(value.Map(r.Live))
			}
		})
		quick, err := Survey(context.Background(), o)
		require.NoError(t, err)
		o.Checked = true
		whole, err := Survey(context.Background(), o)
		require.NoError(t, err)
		for i, res := range whole.Resources {
			if res.Verdict == Matches && len(quick.Resources[i].Checked) == 0 && len(res.Checked) > 0 {
				spared++
			}
			res.Checked, quick.Resources[i].Checked = nil, nil
		}
		require.Equal(t, whole, quick)
	}
	require.Greater(t, spared, 1000)
}

// TestCannotTell: what cannot be read is unchecked, and hides nothing else.
func TestCannotTell(t *testing.T) {
	cloud, o := lamps(3, nil)
	cloud.things, cloud.fail = cloud.things[:1], errors.New("the connection was lost")
	r, err := Survey(context.Background(), o)
	require.NoError(t, err)
	require.Equal(t, Counts{Matches: 1, Unchecked: 2}, r.Counts)
	require.Equal(t, "reading the list of sea.lamp: the connection was lost", r.Resources[1].Because)
	o.Drivers = map[string]driver.Driver{}
	r, err = Survey(context.Background(), o)
	require.NoError(t, err)
	require.Equal(t, 3, r.Counts.Unchecked)
	require.Contains(t, r.Resources[0].Because, `kasbah.toml has no driver "sea"`)
	_, o = lamps(3, nil)
	o.Catalogs["sea"].Types = map[string]*schema.Type{}
	r, err = Survey(context.Background(), o)
	require.NoError(t, err)
	require.Equal(t, 3, r.Counts.Unchecked)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Survey(ctx, o)
	require.ErrorIs(t, err, context.Canceled)
}

// TestFeedCannotBeRead: who changed what is not known then, and what drifted is.
func TestFeedCannotBeRead(t *testing.T) {
	cloud, o := lamps(3, func(i int, r *ledger.Record, l *driver.Live) {
		if i == 1 {
			l.Attributes["size"] = "l"
		}
	})
	cloud.mute = errors.New("the feed is closed")
	r, err := Survey(context.Background(), o)
	require.NoError(t, err)
	require.Equal(t, Counts{Matches: 2, Differs: 1}, r.Counts)
	require.Equal(t, []string{"sea: the change feed could not be read, so who changed what is not known: the feed is " +
		"closed"}, r.Warnings)
}

// TestChosen: what is ignored, accepted, learned or asked for alone, and what cannot be read.
func TestChosen(t *testing.T) {
	cloud, o := lamps(6, func(i int, r *ledger.Record, l *driver.Live) {
		r.Absent = []string{"code"}
		switch i {
		case 1, 2:
			l.Attributes["size"] = "l"
		case 3: // its driver knows of an attribute that it did not know before
			l.Attributes["shape"] = "round"
		case 4: // and of one that was empty before
			l.Attributes["code"] = "x"
		}
	})
	typ := o.Catalogs["sea"].Types["lamp"]
	typ.Attributes = append(typ.Attributes, &schema.Attribute{Name: "shape", Kind: schema.Text, Output: true})
	cloud.events = []driver.Event{{At: monday, Who: "keeper-2", What: "edited", Type: "lamp", ID: "b0",
		Paths: []string{"size"}}, {At: monday.Add(-48 * time.Hour), Who: "keeper-3", What: "edited", Type: "lamp",
		ID: "c0", Paths: []string{"size"}}}
	survey := func(o Options) *Report {
		r, err := Survey(context.Background(), o)
		require.NoError(t, err)
		return r
	}
	t.Run("learned", func(t *testing.T) {
		r := survey(o)
		require.Equal(t, Learned, r.Resources[3].Verdict)
		require.Equal(t, []string{"shape"}, r.Resources[3].Learned)
		require.Equal(t, Matches, r.Resources[4].Verdict)
		require.Equal(t, []string{"code"}, r.Resources[4].AlsoMoved, "it was described, and empty")
		require.Equal(t, Counts{Matches: 3, Differs: 2, Learned: 1}, r.Counts)
	})
	t.Run("ignored", func(t *testing.T) {
		o := o
		o.Ignore = []Ignore{{Pattern: "sea.lamp/b*", Path: value.Path{value.Key("size")}}}
		r := survey(o)
		require.Equal(t, Counts{Matches: 4, Differs: 1, Learned: 1, Ignored: 1}, r.Counts)
		require.Empty(t, r.Resources[1].Differences)
	})
	t.Run("accepted", func(t *testing.T) {
		o := o
		state := o.States["shore"]
		state.Drift = map[string]ledger.AcceptedDrift{"sea.lamp/b0 size": {Address: "sea.lamp/b0", Path: "size",
			Found: ledger.FoundDigest("l"), Until: "2026-12-01", Why: "a test", Who: "keeper-1"}}
		defer func() { state.Drift = nil }()
		o.Today = "2026-12-01"
		r := survey(o)
		require.Equal(t, Accepted, r.Resources[1].Verdict)
		require.Equal(t, &Acceptance{"2026-12-01", "a test", "keeper-1"}, r.Resources[1].Differences[0].Accepted)
		require.False(t, Counts{Accepted: 1}.Drifted())
		o.Today = "2026-12-02"
		require.Equal(t, Differs, survey(o).Resources[1].Verdict, "its time is over")
		cloud.things[1].Attributes["size"] = "xl"
		o.Today = "2026-12-01"
		require.Equal(t, Differs, survey(o).Resources[1].Verdict, "the cloud shows something else")
		cloud.things[1].Attributes["size"] = "l"
	})
	t.Run("only and since", func(t *testing.T) {
		o := o
		o.Only = []string{"shore:sea.lamp/c*"}
		require.Len(t, survey(o).Resources, 1)
		o.Only, o.Since = nil, monday.Add(-time.Hour)
		r := survey(o)
		require.Len(t, r.Resources, 1)
		require.Equal(t, "sea.lamp/b0", r.Resources[0].Address)
		cloud.mute = errors.New("no feed today")
		defer func() { cloud.mute = nil }()
		r = survey(o)
		require.Len(t, r.Resources, 6, "nothing is hidden by a feed that cannot be read")
		require.Contains(t, r.Warnings[0], "sea: the change feed could not be read, so all of it was surveyed")
	})
	t.Run("strangers", func(t *testing.T) {
		o := o
		cloud.things = append(cloud.things, driver.Live{ID: "z9", Attributes: value.Map{"name": "found"}})
		defer func() { cloud.things = cloud.things[:6] }()
		require.Empty(t, survey(o).Strangers)
		o.Strangers = "used"
		r := survey(o)
		require.Equal(t, []Stranger{{Type: "sea.lamp", ID: "z9", Name: "found"}}, r.Strangers)
		o.Elsewhere = map[string]string{"sea.lamp z9": "signal:sea.lamp/z in live"}
		require.Empty(t, survey(o).Strangers, "another environment records it")
	})
	t.Run("failures", func(t *testing.T) {
		o := o
		o.Wards = []string{"shore", "signal"}
		o.Failed = map[string]error{"signal": errors.New("the store is away")}
		r := survey(o)
		require.Equal(t, []Failure{{Ward: "signal", Error: "the store is away"}}, r.Failures)
		require.True(t, r.Failed())
		require.Len(t, r.Resources, 6, "the other ward is told")
		o.Drivers, o.Broken = map[string]driver.Driver{}, map[string]error{"sea": errors.New("no such program")}
		r = survey(o)
		require.Equal(t, 6, r.Counts.Unchecked)
		require.Equal(t, "the driver sea could not be opened: no such program", r.Resources[0].Because)
	})
	t.Run("groups", func(t *testing.T) {
		g := survey(o).Groups()
		require.Len(t, g, 2)
		require.Len(t, g[0].Resources, 2)
		require.Equal(t, []string{"keeper-2", "keeper-3"}, g[0].By)
		require.Equal(t, monday, *g[0].Last)
	})
}
