package ledger

import (
	"context"
	"fmt"
	"runtime"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
	"kasbah/stores/file"
)

// BenchmarkOpen opens a ledger in files that records 100 000 resources and has
// 5 000 runs of history.
func BenchmarkOpen(b *testing.B) {
	const resources, runs = 100_000, 5_000
	ctx := context.Background()
	s, err := file.Open(b.TempDir())
	require.NoError(b, err)
	l, err := New(s, "coast", "live", "shore", Identity{Who: "keeper", Host: "tower", Program: "bench"})
	require.NoError(b, err)
	r := l.newRun("", NewState())
	put := func(lines ...Line) {
		a, err := newAppending(lines)
		require.NoError(b, err)
		require.NoError(b, r.append(ctx, a))
	}
	one := func(id string, lines ...Line) {
		r.ID = id
		put(Line{Kind: KindBegin, Begin: &Begin{Scope: Scope{Whole: true}, Command: "enact"}})
		for len(lines) > 0 {
			n := min(len(lines), 2000)
			put(lines[:n]...)
			lines = lines[n:]
		}
		put(Line{Kind: KindEnd, End: &End{Outcome: "done"}})
		if r.state.wantsCheckpoint() {
			require.NoError(b, l.checkpoint(ctx, r.state, nil))
		}
	}
	var lines []Line
	for i := range resources {
		rec := &Record{
			Address: fmt.Sprintf("medina.machine/gauge-%d", i), Type: "medina.machine", ID: fmt.Sprintf("mac-%d", i),
			Tag: "1", Version: 1, Declared: "0123456789abcdef0123456789abcdef",
			Inputs: value.Attributes{"name": fmt.Sprintf("gauge-%d", i), "size": "small", "image": "stone-1",
				"subnet": "sub-0001"},
			Live: value.Attributes{"name": fmt.Sprintf("gauge-%d", i), "size": "small", "image": "stone-1",
				"subnet": "sub-0001", "state": "running"},
			Needs: []string{"shore:medina.subnet/quay"},
		}
		lines = append(lines, Line{Kind: KindNote, Note: &Note{What: "made", Record: rec}})
	}
	one("first", lines...)
	for i := range runs {
		one(fmt.Sprintf("run-%d", i))
	}
	lines, r = nil, nil
	runtime.GC()
	b.ResetTimer()
	var held uint64
	for range b.N {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		state, err := l.Load(ctx)
		require.NoError(b, err)
		require.Len(b, state.Records, resources)
		runtime.GC()
		runtime.ReadMemStats(&after)
		held = after.HeapAlloc - min(before.HeapAlloc, after.HeapAlloc)
		runtime.KeepAlive(state)
	}
	b.ReportMetric(float64(held)/1e6, "MB-held")
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N), "ms/open")
}
