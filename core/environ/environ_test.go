package environ

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFor(t *testing.T) {
	for _, c := range []struct {
		name  string
		given bool
	}{
		{"PATH", true},
		{"LC_ALL", true},
		{"XDG_CONFIG_HOME", true},
		{"TIDE_TOKEN", true},
		{"LANTERN_TOKEN", false},
		{"KASBAH_IDENTITY", false},
		{"KASBAH_SECRET_WORD", false},
		{"KASBAH_WRITER", false},
		{"DATABASE_PASSWORD", false},
		{"LC", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Setenv(c.name, "x")
			require.Equal(t, c.given, Given(c.name, "TIDE_TOKEN", "KASBAH_IDENTITY"), c.name)
			if c.given {
				require.Contains(t, For("TIDE_TOKEN"), c.name+"=x")
			} else {
				require.NotContains(t, For("TIDE_TOKEN", "KASBAH_WRITER"), c.name+"=x")
			}
		})
	}
}
