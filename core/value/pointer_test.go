package value

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPointers(t *testing.T) {
	for _, c := range []struct {
		pointer string
		path    Path
	}{
		{"/tags/a~1b", Path{Key("tags"), Key("a/b")}},
		{"/rules/0/from", Path{Key("rules"), Item(0), Key("from")}},
		{"/~01", Path{Key("~1")}},
		{"/7", Path{Key("7")}},
	} {
		t.Run(c.pointer, func(t *testing.T) {
			require.Equal(t, c.path, FromPointer(c.pointer))
			require.Equal(t, c.pointer, c.path.Pointer())
		})
	}
	require.Equal(t, Path{Key("power")}, FromPointer("power"))
	require.Empty(t, FromPointer(""))
}
