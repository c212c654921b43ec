package declare

import (
	"math/big"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"
)

// TestFormatted: the short way of formatting says what the interpreter says, and
// leaves to it what it would refuse.
func TestFormatted(t *testing.T) {
	rnd := rand.New(rand.NewPCG(3, 24))
	large := starlark.MakeBigInt(new(big.Int).Lsh(big.NewInt(1), 80))
	values := []starlark.Value{starlark.String("quay"), starlark.String("a%sé"), starlark.MakeInt(7),
		starlark.MakeInt(-30), large, starlark.None, starlark.Float(1.5), starlark.True, starlark.NewList(nil)}
	pieces := []string{"%s", "%d", "%%", "lamp-", "é", "%", "%x", "%r", "%(a)s", ""}
	short := 0
	for range 20_000 {
		var format strings.Builder
		for range rnd.IntN(5) {
			format.WriteString(pieces[rnd.IntN(3+rnd.IntN(len(pieces)-2))])
		}
		y := values[rnd.IntN(len(values))]
		if rnd.IntN(3) > 0 {
			args := starlark.Tuple{}
			for range rnd.IntN(4) {
				args = append(args, values[rnd.IntN(len(values))])
			}
			y = args
		}
		is, ok := formatted(format.String(), y)
		if !ok {
			continue
		}
		short++
		want, err := starlark.Binary(syntax.PERCENT, starlark.String(format.String()), y)
		require.NoError(t, err, "%q %% %s", format.String(), y)
		require.Equal(t, want, starlark.String(is), "%q %% %s", format.String(), y)
	}
	require.Greater(t, short, 2000)
	for _, few := range []starlark.Value{starlark.MakeInt(1), starlark.Tuple{starlark.String("x")}} {
		_, ok := formatted("%s", few)
		require.True(t, ok)
	}
}

func BenchmarkFormatted(b *testing.B) {
	y := starlark.Tuple{starlark.MakeInt(4711)}
	b.Run("short", func(b *testing.B) {
		for b.Loop() {
			formatted("gauge-%d", y)
		}
	})
	b.Run("interpreter", func(b *testing.B) {
		for b.Loop() {
			_, _ = starlark.Binary(syntax.PERCENT, starlark.String("gauge-%d"), y)
		}
	})
}
