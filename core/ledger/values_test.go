package ledger

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
	"kasbah/stores/memory"
)

// call appends an intent and its result, which took some seconds.
func call(t *testing.T, r *Run, n int, kind string, seconds float64, outcome Outcome) {
	id := fmt.Sprint("call-", n)
	address := fmt.Sprint("medina.bucket/b", n)
	require.NoError(t, r.Append(ctx, Line{Kind: KindIntent, Intent: &Intent{ID: id, Address: address,
		Type: "medina.bucket", Action: "new", Call: kind, Key: id}}))
	res := &Result{Intent: id, Address: address, Outcome: outcome, Seconds: seconds}
	if outcome == Done {
		res.Record = &Record{Address: address, Type: "medina.bucket", ID: id, Live: value.Attributes{"n": int64(n)}}
	}
	require.NoError(t, r.Append(ctx, Line{Kind: KindResult, Result: res}))
}

// TestDurations: what calls took is kept by type and call, the newest weigh
// most, failures do not count, and checkpoints keep it.
func TestDurations(t *testing.T) {
	s := memory.New()
	l := open(t, s, "keeper-1")
	r := begin(t, l, "run-1")
	call(t, r, 1, "create", 10, Done)
	call(t, r, 2, "create", 20, Done)
	call(t, r, 3, "create", 900, Failed)
	call(t, r, 4, "create", 0, Done) // found out about by a later run: nobody saw how long it took
	call(t, r, 5, "delete", 3, Done)
	state, err := l.Load(ctx)
	require.NoError(t, err)
	want := map[string]Duration{"medina.bucket create": {Mean: 15, N: 2}, "medina.bucket delete": {Mean: 3, N: 1}}
	require.Equal(t, want, state.Durations)
	r.checkpoint()
	state, err = l.Load(ctx)
	require.NoError(t, err)
	require.Equal(t, want, state.Durations)
	for i := range 200 {
		call(t, r, 10+i, "create", 100, Done)
	}
	state, err = l.Load(ctx)
	require.NoError(t, err)
	require.InDelta(t, 100, state.Durations["medina.bucket create"].Mean, 0.1, "what was long ago is forgotten")
	require.NoError(t, r.End(ctx, End{Outcome: "done"}))
}

// TestValues: what a run leaves of its ward is kept as a whole, through
// checkpoints, until a run that knows better; one that does not know leaves
// everything as it was.
func TestValues(t *testing.T) {
	s := memory.New()
	l := open(t, s, "keeper-1")
	first := Values{
		Published: value.Attributes{"quays": value.Map{"a": "sub-1"}, "word": "x"},
		Offered:   value.Attributes{"quays": value.Map{"a": value.NewRef("shore:medina.subnet/a", value.Key("id"))}},
		Reads:     []string{"signal relay"},
		Found:     map[string]value.Attributes{"find(medina.network name old)": {"id": "net-7"}},
	}
	run := func(id string, v Values, said ...string) *State {
		r := begin(t, l, id)
		if id == "run-3" {
			r.checkpoint()
		}
		require.NoError(t, r.End(ctx, End{Outcome: "done", Counts: map[string]int{"done": 0}, Rules: said, Values: v}))
		state, err := l.Load(ctx)
		require.NoError(t, err)
		return state
	}
	require.Equal(t, first, run("run-1", first, "medina.bucket/b: it is open (rule sealed)").Values)
	require.Equal(t, first, run("run-2", Values{}).Values, "it does not know")
	require.Equal(t, first, run("run-3", Values{}).Values, "from a checkpoint")
	require.Equal(t, Values{Published: value.Attributes{}}, run("run-4", Values{Published: value.Attributes{}}).Values,
		"razed: nothing is published any more")
	history, _, err := l.History(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"medina.bucket/b: it is open (rule sealed)"}, history[0].Rules)
	_, err = l.Verify(ctx)
	require.NoError(t, err)
}

// TestLastChange: the run that last changed an attribute, and not one that
// touched another.
func TestLastChange(t *testing.T) {
	l := open(t, memory.New(), "keeper-1")
	set := func(run string, live value.Attributes) {
		r := begin(t, l, run)
		require.NoError(t, r.Append(ctx, Line{Kind: KindIntent, Intent: &Intent{ID: "c", Address: "medina.bucket/b",
			Type: "medina.bucket", Call: "update", Key: "k"}}))
		require.NoError(t, r.Append(ctx, Line{Kind: KindResult, Result: &Result{Intent: "c", Address: "medina.bucket/b",
			Outcome: Done, Record: &Record{Address: "medina.bucket/b", ID: "bkt-1", Live: live}}}))
		require.NoError(t, r.End(ctx, End{Outcome: "done"}))
	}
	set("run-1", value.Attributes{"a": "1", "b": "1"})
	set("run-2", value.Attributes{"a": "2", "b": "1"})
	set("run-3", value.Attributes{"a": "2", "b": "1", "c": "3"})
	for _, c := range []struct{ attribute, want string }{
		{"a", "run-2"},
		{"b", "run-1"},
		{"c", "run-3"},
		{"", "run-3"},
	} {
		t.Run(c.attribute, func(t *testing.T) {
			r, err := l.LastChange(ctx, "medina.bucket/b", c.attribute)
			require.NoError(t, err)
			require.Equal(t, c.want, r.Run, c.attribute)
		})
	}
	r, err := l.LastChange(ctx, "medina.bucket/other", "a")
	require.NoError(t, err)
	require.Nil(t, r)
}
