package enact

import (
	"sync"
	"time"

	"kasbah/core/ledger"
	"kasbah/core/problem"
)

// tally is how far a run is, and what went wrong. Its lock is also that of what the steps of a
// run share.
type tally struct {
	mu         sync.Mutex
	counts     Counts
	byWard     map[string]*Counts
	failures   []*problem.Problem
	halfDone   map[string]int  // full address -> steps done
	unfinished map[string]bool // full addresses of which some steps are done, and none failed
	skipped    map[string]bool
	took       map[string]time.Duration // by full address
	errs       map[string]error         // by full address
	said       map[string][]string      // by ward: what rules said
	recovered  []string
	copies     []Copied
	broken     error // why nothing more may be started
}

func newTally() tally {
	return tally{
		byWard: map[string]*Counts{}, halfDone: map[string]int{}, unfinished: map[string]bool{}, skipped: map[string]bool{},
		took: map[string]time.Duration{}, errs: map[string]error{}, said: map[string][]string{},
	}
}

// takenBack is what a run did, and how much of that it took back.
type takenBack struct {
	calls        map[string][]*madeCall // by step: what was done
	undoneHalves map[string]int         // full address -> steps taken back
	undone       []Undone
	tookBackAll  bool
}

// goingOn is what earlier runs of the same proposal did.
type goingOn struct {
	earlier        []string
	already        map[string]bool // steps
	resumedActions int
}

// count is how far the run is now. The caller holds the lock.
func (t *tally) count() Counts {
	c := t.counts
	c.Unfinished = len(t.unfinished)
	c.NotBegun = c.Total - c.Done - c.Failed - c.Unclear - c.Unfinished
	return c
}

// outputs are the resources whose outputs a run uses or publishes.
type outputs struct {
	watched map[string]bool           // full addresses
	stirred map[string]bool           // of these, what may have moved since it was read
	seenNow map[string]*ledger.Record // records as they are live, where the run may not write them
}
