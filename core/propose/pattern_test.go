package propose

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
)

// TestPatterns: several patterns match what one of them does, and the first that matches nothing
// is told.
func TestPatterns(t *testing.T) {
	random := rand.New(rand.NewPCG(11, 29))
	names := []string{"a", "b", "b/c", "a.b", "*"}
	address := func() string { return "medina.lamp/" + names[random.IntN(4)] }
	for range 2000 {
		addresses := map[string]string{} // their wards
		for range random.IntN(6) {
			addresses[address()] = fmt.Sprintf("w-%d", random.IntN(2))
		}
		var list []string
		for range random.IntN(4) {
			p := address()
			switch random.IntN(4) {
			case 0:
				p = "medina.lamp/*"
			case 1:
				p = "**" + names[random.IntN(5)]
			case 2:
				p = fmt.Sprintf("w-%d:%s", random.IntN(2), p)
			}
			list = append(list, p)
		}
		var first string
		found := map[string]bool{}
		for _, p := range list {
			matches, hit := Pattern(p), false
			for a, w := range addresses {
				if matches(a) || matches(value.InWard(w, a)) {
					found[value.InWard(w, a)], hit = true, true
				}
			}
			if !hit && first == "" {
				first = p
			}
		}
		patterns, got := NewPatterns(list), map[string]bool{}
		none := patterns.Search(func(yield func(string, string) bool) {
			maps.All(addresses)(func(a, w string) bool { return yield(w, a) })
		}, func(w, a string) { got[value.InWard(w, a)] = true })
		require.Equal(t, found, got, "%q in %v", list, addresses)
		require.Equal(t, first, none, "%q in %v", list, addresses)
		for a, w := range addresses {
			require.Equal(t, found[value.InWard(w, a)], patterns.Match(w, a))
		}
	}
}
