package nearest

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestTo(t *testing.T) {
	names := []string{"propose", "published", "enact", "raze", "map"}
	for typed, want := range map[string]string{
		"propse": "propose", "Propose": "propose", "publishd": "published", "enatc": "enact", "rase": "raze",
		"mpa": "map", "zzzzzz": "",
		"cat": "", "m": "", "xap": "map", "ap": "map", "mapp": "map", // half of a short name is another name
	} {
		require.Equal(t, want, To(typed, names), typed)
	}
	require.Equal(t, `did you mean "enact"?`, Hint("enacct", names))
	require.Empty(t, Hint("something else", names))
	require.Empty(t, Hint("x", nil))
}
