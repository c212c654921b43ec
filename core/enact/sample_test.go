package enact_test

import (
	"os"
	"testing"
)

// sample is how much of a long test is done: all of it with THOROUGH=1 in the
// environment, as scripts/test -thorough sets it, a share else, and the least
// with -short.
func sample(all, usual, short int) int {
	switch {
	case os.Getenv("THOROUGH") == "1":
		return all
	case testing.Short():
		return short
	}
	return usual
}

// oneByOne leaves a test out of the part of scripts/test that runs under the race detector:
// it does one thing at a time, ten times slower there, and runs in the other part.
func oneByOne(t *testing.T) {
	if testing.Short() {
		t.Skip("it does one thing at a time")
	}
}
