// Package collector sets the pace of Go's garbage collector: commands that end soon are spared
// its rounds over a small heap, and programs that run on keep their heap small.
package collector

import (
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync/atomic"
)

// The collector looks for garbage when the heap has grown to first. Most commands end before, and one that fills a
// large heap is spared the rounds over a small one, in which next to nothing is garbage.
const first = 128 << 20

// slack is how much garbage may gather after that, and share how much more, as a percentage of what is in use: of a
// heap of gigabytes a quarter is garbage, where the runtime would leave a half.
const slack, share = 40 << 20, 25

var steady atomic.Bool

// Spare makes the collector wait for first, and then for slack and a share of what is in use. It leaves a GOGC that is
// set as it is.
func Spare() {
	if os.Getenv("GOGC") != "" {
		return
	}
	const least = 4 << 20 // of a heap, with which the runtime reckons at 100 %
	debug.SetGCPercent(100 * first / least)
	afterCollection(func() (again bool) {
		if steady.Load() {
			return false
		}
		sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
		metrics.Read(sample)
		debug.SetGCPercent(share + 100*slack/max(int(sample[0].Value.Uint64()), least))
		return true
	})
}

// Steady gives back what Spare took, for a program that runs on and on.
func Steady() {
	if steady.Store(true); os.Getenv("GOGC") == "" {
		debug.SetGCPercent(100)
	}
}

// afterCollection calls f after the next round of the collector, and again as long as
// it says so.
func afterCollection(f func() (again bool)) {
	type round struct{ _ *byte }
	runtime.SetFinalizer(&round{}, func(*round) {
		if f() {
			afterCollection(f)
		}
	})
}
