package alert

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
)

func differs(address, path string, found any) Finding {
	return Finding{Ward: "shore", Address: address, Type: "medina.machine", Verdict: Differs, Path: path,
		Expected: &value.Any{V: "small"}, Found: &value.Any{V: found}}
}

func sure(*Finding) bool { return false }

// journal folds what surveys find, as a watcher writes it.
type journal struct {
	t  *testing.T
	s  *State
	at time.Time
}

func (j *journal) fold(run string, l Line) string {
	j.at = j.at.Add(time.Minute)
	return j.s.Fold(j.at, run, &l)
}

func (j *journal) survey(found ...Finding) []EventKind {
	var kinds []EventKind
	for _, e := range j.s.Compare("live", "shore", found, sure, "2026-11-29") {
		require.Empty(j.t, j.fold("r", Line{Event: &e}))
		kinds = append(kinds, e.Kind)
	}
	require.Empty(j.t, j.fold("r", Line{Survey: &Survey{Ward: "shore", Counts: map[string]int{Differs: len(found)}}}))
	return kinds
}

// TestLife: an alert is opened, changed, acknowledged, opened again when it changes, and resolved.
func TestLife(t *testing.T) {
	j := &journal{t, NewState(), time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)}
	size := differs("medina.machine/gauge", "size", "large")
	id := size.ID("live")
	require.Regexp(t, "^[a-z2-7]{8}$", id)
	require.NotEqual(t, id, size.ID("trial"))
	require.Equal(t, []EventKind{WasOpened}, j.survey(size))
	require.Nil(t, j.survey(size), "the same finding changes nothing")
	ack := func(until string) {
		require.Empty(t, j.fold("p", Line{Event: &Event{Kind: WasAcknowledged, ID: id, Ack: &Ack{Who: "keeper-1", Why: "storm", Until: until}}}))
		require.Equal(t, Acknowledged, j.s.Alerts[id].Phase)
	}
	ack("")
	require.Nil(t, j.survey(size), "an acknowledged alert stays as it is")
	size.Found = &value.Any{V: "tiny"}
	require.Equal(t, []EventKind{WasChanged}, j.survey(size))
	require.Equal(t, Open, j.s.Alerts[id].Phase)
	require.Nil(t, j.s.Alerts[id].Ack)
	ack("2026-11-29")
	require.Nil(t, j.survey(size), "its last day is not over")
	ack("2026-11-28")
	require.Equal(t, []EventKind{WasChanged}, j.survey(size), "an acknowledgement ends")
	require.Equal(t, []EventKind{WasResolved}, j.survey())
	require.NotNil(t, j.s.Alerts[id].Resolved)
	require.NotEmpty(t, j.fold("p", Line{Event: &Event{Kind: WasAcknowledged, ID: id}}), "it is over")
	require.Equal(t, []EventKind{WasOpened}, j.survey(size), "and comes back")
	require.Nil(t, j.s.Alerts[id].Resolved)

	kept := j.s.Compare("live", "shore", nil, func(f *Finding) bool { return f.Address == "medina.machine/gauge" }, "2026-11-29")
	require.Empty(t, kept, "what could not be looked at stays")
	require.Empty(t, j.s.Compare("live", "isle", nil, sure, "2026-11-29"), "another ward says nothing")
}

// TestClaims: the first to append has a slot, until it is done or its run is gone.
func TestClaims(t *testing.T) {
	j := &journal{t, NewState(), time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)}
	due := j.at
	c := Claim{"shore", due}
	require.Empty(t, j.fold("a", Line{Claim: &c}))
	require.Empty(t, j.fold("b", Line{Claim: &c}))
	require.True(t, j.s.Claimed(c, "a"))
	require.False(t, j.s.Claimed(c, "b"))
	require.NotEmpty(t, j.fold("b", Line{Survey: &Survey{Ward: "shore", Due: &due}}), "only who claimed it may end it")
	j.s.Release("a")
	require.Empty(t, j.fold("b", Line{Claim: &c}))
	require.True(t, j.s.Claimed(c, "b"))
	require.Empty(t, j.fold("b", Line{Survey: &Survey{Ward: "shore", Due: &due}}))
	require.Empty(t, j.fold("a", Line{Claim: &c}))
	require.False(t, j.s.Claimed(c, "a"), "it is done")
	next := Claim{"shore", due.Add(time.Hour)}
	require.True(t, j.s.Free(next))
}

// TestBounded: a journal of any length folds into as much as is kept, and it survives a checkpoint.
func TestBounded(t *testing.T) {
	j := &journal{t, NewState(), time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)}
	rng := rand.New(rand.NewPCG(1, 2))
	size := 0
	for i := range 4000 {
		j.at = j.at.Add(time.Hour)
		var found []Finding
		for n := range rng.IntN(4) {
			found = append(found, differs(fmt.Sprintf("medina.machine/gauge-%d", i/20+n), "size", int64(rng.IntN(3))))
		}
		j.survey(found...)
		if i == 1500 {
			body, err := json.Marshal(j.s)
			require.NoError(t, err)
			size = len(body)
			j.s = NewState()
			require.NoError(t, json.Unmarshal(body, j.s))
		}
	}
	body, err := json.Marshal(j.s)
	require.NoError(t, err)
	require.Less(t, len(body), 2*size)
	require.Len(t, j.s.Wards["shore"].History, keptPoints)
	again := NewState()
	require.NoError(t, json.Unmarshal(body, again))
	more, err := json.Marshal(again.Clone())
	require.NoError(t, err)
	require.JSONEq(t, string(body), string(more))
}

// TestHostileState: a state with missing parts is read without harm.
func TestHostileState(t *testing.T) {
	for _, body := range []string{`{}`, `{"alerts":null,"wards":null}`, `{"alerts":{"a":null},"wards":{"shore":null}}`} {
		s := &State{}
		require.NoError(t, json.Unmarshal([]byte(body), s))
		f := differs("medina.machine/gauge", "size", "large")
		require.Len(t, s.Compare("live", "shore", []Finding{f}, sure, "2026-11-29"), 1)
		for _, l := range []Line{{}, {Event: &Event{Kind: WasOpened}}, {Event: &Event{Kind: "?", ID: "a"}}, {Survey: &Survey{}}, {Claim: &Claim{}}} {
			s.Fold(time.Now(), "r", &l)
		}
		require.NotNil(t, s.Clone())
	}
}
