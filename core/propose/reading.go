package propose

import (
	"context"
	"sync/atomic"
	"time"
)

// patience is how long a list may take before it is told how far it is, and how often it is
// told from then on.
const patience = 5 * time.Second

type readingKey struct{}

// TellReading has those who read clouds with the context tell of lists that take long: the
// type with its driver, and how many things were read so far. Several may be told at once.
func TellReading(ctx context.Context, tell func(typ string, things int)) context.Context {
	return context.WithValue(ctx, readingKey{}, tell)
}

type callsKey struct{}

// CountCalls has those who read clouds with the context tell of each call of a driver, by its name: a list,
// or the reading of one thing. Several may be told at once.
func CountCalls(ctx context.Context, tell func(driver string)) context.Context {
	return context.WithValue(ctx, callsKey{}, tell)
}

func countCall(ctx context.Context, full string) {
	if tell, ok := ctx.Value(callsKey{}).(func(string)); ok {
		drv, _ := SplitType(full)
		tell(drv)
	}
}

// reading counts the things of one list.
type reading struct {
	things atomic.Int64
	done   chan struct{}
}

func startReading(ctx context.Context, typ string) *reading {
	r := &reading{done: make(chan struct{})}
	tell, ok := ctx.Value(readingKey{}).(func(string, int))
	if !ok {
		return r
	}
	go func() {
		again := time.NewTicker(patience)
		defer again.Stop()
		for {
			select {
			case <-again.C:
				tell(typ, int(r.things.Load()))
			case <-r.done:
				return
			}
		}
	}()
	return r
}

func (r *reading) end() { close(r.done) }
