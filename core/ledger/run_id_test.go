package ledger_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/ledger"
	"kasbah/core/problem"
)

func TestFindRun(t *testing.T) {
	ids := []string{"01M8DSX7B3Q5T8ZK4BAAAA1111", "01M8DSX7B3Q5T8ZK4BAAAA2222", "01M9DSX7B3Q5T8ZK4BAAAA1111"}
	require.Equal(t, "AAAA2222", ledger.ShortRun(ids[1]))
	for _, c := range []struct{ typed, is, says string }{
		{typed: ids[0], is: ids[0]},
		{typed: ledger.ShortRun(ids[1]), is: ids[1]},
		{typed: "aaaa2222", is: ids[1]},
		{typed: "01M9", is: ids[2]},
		{typed: "01M8", says: "01M8 matches several runs; write more of the id"},
		{typed: "222", says: "no such run: 222"},
		{typed: "DSX7", says: "no such run: DSX7"},
	} {
		t.Run(c.typed, func(t *testing.T) {
			is, err := ledger.FindRun(ids, c.typed)
			if c.says == "" {
				require.NoError(t, err)
				require.Equal(t, c.is, is)
				return
			}
			var usage *problem.UsageError
			require.ErrorAs(t, err, &usage)
			require.ErrorContains(t, err, c.says)
		})
	}
}

func TestNewest(t *testing.T) {
	part := func(run string) *ledger.RunSummary { return &ledger.RunSummary{Run: run} }
	parts := func() []*ledger.RunSummary {
		return []*ledger.RunSummary{part("a"), part("b"), part("b"), part("c"),
			part("b")}
	}
	names := func(list []*ledger.RunSummary) (out string) {
		for _, r := range list {
			out += r.Run
		}
		return out
	}
	require.Equal(t, "abbcb", names(ledger.Newest(parts(), 0)))
	require.Equal(t, "bbb", names(ledger.Newest(parts(), 1)), "a run over several wards counts once")
	require.Equal(t, "bbcb", names(ledger.Newest(parts(), 2)))
	require.Equal(t, "abbcb", names(ledger.Newest(parts(), 9)))
}
