package environ

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFor(t *testing.T) {
	for name, given := range map[string]bool{
		"PATH": true, "LC_ALL": true, "XDG_CONFIG_HOME": true, "TIDE_TOKEN": true, "LANTERN_TOKEN": false,
		"KASBAH_IDENTITY": false, "KASBAH_SECRET_WORD": false, "KASBAH_WRITER": false, "DATABASE_PASSWORD": false,
		"LC": false,
	} {
		t.Setenv(name, "x")
		require.Equal(t, given, Given(name, "TIDE_TOKEN", "KASBAH_IDENTITY"), name)
		if given {
			require.Contains(t, For("TIDE_TOKEN"), name+"=x")
		} else {
			require.NotContains(t, For("TIDE_TOKEN", "KASBAH_WRITER"), name+"=x")
		}
	}
}
