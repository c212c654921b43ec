package declare_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// random makes kinds of the language and values as people type them.
type random struct{ *rand.Rand }

func newRandom(seed uint64) random { return random{rand.New(rand.NewPCG(seed, 5))} }

func (r random) of(list ...string) string { return list[r.IntN(len(list))] }

// kind is a random kind, nested up to some levels.
func (r random) kind(levels int) string {
	if levels == 0 || r.IntN(2) == 0 {
		return r.of("kind.text", "kind.int", "kind.number", "kind.bool", "kind.cidr", "kind.duration", "kind.any",
			"kind.int(min = -3, max = 3)", "kind.text(min_length = 2, max_length = 4)",
			"kind.text(matches = \"^[a-z]+$\")", "kind.text(one_of = [\"a\", \"b\"])", "kind.number(min = 0.5)")
	}
	switch r.IntN(3) {
	case 0:
		return fmt.Sprintf("kind.list(%s, min_length = %d)", r.kind(levels-1), r.IntN(3))
	case 1:
		return fmt.Sprintf("kind.map(%s, max_length = %d)", r.kind(levels-1), 1+r.IntN(3))
	}
	return fmt.Sprintf("kind.record({\"a\": %s, \"b\": kind.int(default = 4)})", r.kind(levels-1))
}

// raw is a random value as it is typed after -input x=, often no TOML at all.
func (r random) raw(levels int) string {
	if levels == 0 || r.IntN(3) > 0 {
		return r.of("a", "\"ab\"", "5", "-1", "0.75", "1e309", "nan", "true", "false", "10.0.0.0/8", "10.0.0.1/8",
			"90s", "", "[", "{", "'", "\"\\u0000\"",
			"99999999999999999999", "0x10", "1979-05-27", "\"☃\"", "\xff", "\"\"\"", "a=b", strings.Repeat("[", 200),
			"\"${x}\"", "None")
	}
	switch r.IntN(3) {
	case 0:
		return "[" + r.raw(levels-1) + ", " + r.raw(levels-1) + "]"
	case 1:
		return "{" + r.of("a", "b", "\"c d\"", "\"\"") + " = " + r.raw(levels-1) + "}"
	}
	return "{a = " + r.raw(levels-1) + ", b = " + r.raw(levels-1) + "}"
}
