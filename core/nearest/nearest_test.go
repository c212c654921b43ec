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

// TestAddresses: that two are of one type makes their names no closer.
func TestAddresses(t *testing.T) {
	known := []string{"sallow/medina.machine/tower", "medina.machine/relay", "medina.machine/gauge-sallow", "medina.machine/gauge-north", "medina.network/coast"}
	for typed, want := range map[string]string{
		"medina.machine/gaug":          "medina.machine/gauge-north",
		"medina.machine/gauge-salow":   "medina.machine/gauge-sallow",
		"medina.machine/rely":          "medina.machine/relay",
		"medina.machine/coast":         "",
		"medina.netwrk/coast":          "medina.network/coast",
		"medina.machine/tower":         "sallow/medina.machine/tower",
		"medina.machine/towr":          "sallow/medina.machine/tower",
		"machine/tower":                "sallow/medina.machine/tower",
		"sallow/medina.machine/relay":  "medina.machine/relay",
		"medina.machine/lighthouse-17": "",
	} {
		require.Equal(t, want, To(typed, known), typed)
	}
}

// TestOrderSaysNothing: the answer is the same in whatever order the candidates come, for many come out of
// a map.
func TestOrderSaysNothing(t *testing.T) {
	require.Equal(t, "care", To("more", []string{"ord", "care"}))
	require.Equal(t, "care", To("more", []string{"care", "ord"}))
}
