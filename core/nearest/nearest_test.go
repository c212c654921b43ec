package nearest

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTo(t *testing.T) {
	names := []string{"propose", "published", "enact", "raze", "map"}
	for _, c := range []struct{ typed, want string }{
		{"propse", "propose"},
		{"Propose", "propose"},
		{"publishd", "published"},
		{"enatc", "enact"},
		{"rase", "raze"},
		{"mpa", "map"},
		{"zzzzzz", ""},
		{"cat", ""},
		{"m", ""},
		{"xap", "map"},
		{"ap", "map"},
		{"mapp", "map"},
	} {
		t.Run(c.typed, func(t *testing.T) {
			require.Equal(t, c.want, To(c.typed, names), c.typed)
		})
	}
	require.Equal(t, `did you mean "enact"?`, Hint("enacct", names))
	require.Empty(t, Hint("something else", names))
	require.Empty(t, Hint("x", nil))
}

// TestOrderSaysNothing: the answer is the same in whatever order the candidates come, for many come out of
// a map.
func TestOrderSaysNothing(t *testing.T) {
	require.Equal(t, "care", To("more", []string{"ord", "care"}))
	require.Equal(t, "care", To("more", []string{"care", "ord"}))
}
