package ledger_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/ledger"
	"kasbah/stores/file"
)

// disjoint lets two runs write at once, their entries mixed.
func disjoint(t *testing.T, l *ledger.Ledger) {
	ctx := context.Background()
	var runs []*ledger.Run
	for _, name := range []string{"east", "west"} {
		address := "medina.bucket/" + name
		r, err := l.Begin(ctx, ledger.BeginOptions{ID: name, Scope: ledger.NewScope([]string{address},
			[]string{"medina.network/coast"})})
		require.NoError(t, err)
		require.NoError(t, r.Append(ctx, ledger.Line{Kind: ledger.KindIntent, Intent: &ledger.Intent{ID: "1",
			Address: address, Type: "medina.bucket", Action: "new", Call: "create"}}))
		runs = append(runs, r)
	}
	for _, r := range runs {
		address := r.Scope().Writes[0]
		record := &ledger.Record{Address: address, Type: "medina.bucket", ID: "bkt-" + r.ID, Version: 1, Run: r.ID}
		require.NoError(t, r.Append(ctx, ledger.Line{Kind: ledger.KindResult, Result: &ledger.Result{Intent: "1",
			Address: address, Outcome: ledger.Done, Record: record}}))
		require.NoError(t, r.End(ctx, ledger.End{Outcome: "done"}))
	}
}

// TestOtherReader: somebody who has read docs/formats/ledger.md and none of our
// code reads the same.
func TestOtherReader(t *testing.T) {
	for _, program := range []string{"python3", "zstd"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not installed here; scripts/test installs it", program)
		}
	}
	ctx, dir := context.Background(), t.TempDir()
	s, err := file.Open(dir)
	require.NoError(t, err)
	l, err := ledger.New(s, "coast", "live", "shore", ledger.Identity{Who: "keeper", Host: "tower", Program: "test"})
	require.NoError(t, err)
	for i := range 3 {
		work(t, l, fmt.Sprint("run-", i), 120) // long enough for a checkpoint each
	}
	r, err := l.Begin(ctx, ledger.BeginOptions{ID: "drops"})
	require.NoError(t, err)
	for i, line := range []ledger.Line{
		{Kind: ledger.KindNote, Note: &ledger.Note{What: "released", Dropped: "medina.bucket/" + hiddenText +
			"-run-0-1"}},
		{Kind: ledger.KindIntent, Intent: &ledger.Intent{ID: "x", Address: "medina.bucket/" + hiddenText + "-run-1-2",
			Type: "medina.bucket", Action: "drop", Call: "delete"}},
		{Kind: ledger.KindResult, Result: &ledger.Result{Intent: "x", Address: "medina.bucket/" + hiddenText +
			"-run-1-2", Outcome: ledger.Done, Dropped: true}},
	} {
		require.NoError(t, r.Append(ctx, line), i)
	}
	require.NoError(t, l.Break(ctx, "drops", "for the test", ""))
	require.ErrorIs(t, r.End(ctx, ledger.End{Outcome: "done"}), ledger.ErrBroken)
	work(t, l, "last", 1)
	disjoint(t, l)

	out, err := exec.Command("python3", "testdata/reader.py", filepath.Join(dir, "coast", "live",
		"shore")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	type state struct {
		Seq     int64
		Hash    string
		Open    []string
		Records map[string]*ledger.Record
	}
	var theirs struct{ Log, Checkpoint state }
	require.NoError(t, json.Unmarshal(out, &theirs))
	ours, err := l.Load(ctx)
	require.NoError(t, err)
	for _, their := range []state{theirs.Log, theirs.Checkpoint} {
		require.Equal(t, ours.Seq, their.Seq)
		require.Equal(t, ours.Hash, their.Hash)
		require.Empty(t, their.Open)
		require.Len(t, their.Records, len(ours.Records))
		for a, st := range ours.Records {
			r, err := st.Record()
			require.NoError(t, err)
			want, err := json.Marshal(r)
			require.NoError(t, err)
			got, err := json.Marshal(their.Records[a])
			require.NoError(t, err)
			require.JSONEq(t, string(want), string(got), a)
		}
	}
}
