package declare

import (
	"context"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kasbah/core/estate"
)

// TestWatchEnds: watching time and memory ends at any moment, and stops nothing by that: what is called later
// with the same evaluator is not interrupted.
func TestWatchEnds(t *testing.T) {
	var group sync.WaitGroup
	all := make([]*evaluator, 2000)
	for i := range all {
		all[i] = &evaluator{running: running{limits: estate.Limits{Seconds: 60, HeapBytes: 1 << 40}}}
		group.Go(func() {
			stop := all[i].watch(context.Background())
			time.Sleep(20*time.Millisecond + time.Duration(rand.IntN(1000))*time.Microsecond)
			stop()
		})
	}
	group.Wait()
	for _, ev := range all {
		require.Empty(t, ev.stopped)
	}
}
