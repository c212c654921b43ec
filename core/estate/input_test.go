package estate

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/value"
)

func TestWithInput(t *testing.T) {
	const base = "estate = \"coast\" # the whole\nwards = [\"shore\"]\n[env.trial.inputs]\nspan = \"a\"   # of all\n" +
		"lights = { sallow = 1, merrow = 2 } # numbers\n[env.live.inputs]\n[env.trial.inputs.deep]\nx = 1 # one\n"
	for _, c := range []struct {
		says, section, name string
		is                  any
		want                string // what the line is then
	}{
		{"a text", "env.trial.inputs", "span", "b", "span = \"b\"   # of all\n"},
		{"one key of a map", "env.trial.inputs", "lights", value.Map{"sallow": int64(1), "merrow": int64(7)},
			"lights = { sallow = 1, merrow = 7 } # numbers\n"},
		{"a key more", "env.trial.inputs", "lights", value.Map{"sallow": int64(1), "b c": int64(7)},
			"lights = { \"b c\" = 7, sallow = 1 } # numbers\n"},
		{"a table of its own", "env.trial.inputs", "deep", value.Map{"x": int64(2)}, "x = 2 # one\n"},
		{"a new one", "env.live.inputs", "span", "c", "[env.live.inputs]\nspan = \"c\"\n"},
		{"a new section", "env.other.inputs", "span", []any{"c", true}, "[env.other.inputs]\nspan = [\"c\", true]\n"},
		{"a hostile text", "env.trial.inputs", "span", "a\"\"\"\n\\ \x00\x7f\u2028é]", ""},
	} {
		t.Run(c.says, func(t *testing.T) {
			after, err := WithInput(base, c.section, c.name, c.is)
			require.NoError(t, err)
			require.Contains(t, after, c.want)
			require.Contains(t, after, "# the whole")
			is, there := at(after, c.section, c.name)
			require.True(t, there)
			require.True(t, value.Equal(is, c.is))
		})
	}
	_, err := WithInput(base+"inputs = 5\n", "env.trial.inputs.deep.inputs", "y", 1)
	require.ErrorContains(t, err, "the input y cannot be changed safely; write y = 1 under")
}

// FuzzWithInput: whatever text an input becomes, TOML gives it back.
func FuzzWithInput(f *testing.F) {
	f.Add("a", "b")
	f.Add("\"\"\"", "x.y")
	f.Fuzz(func(t *testing.T, text, key string) {
		body := "[env.trial.inputs]\nspan = \"a\"\n"
		is, err := value.Normal(map[string]any{key: text})
		if err != nil {
			t.Skip("not a value")
		}
		after, err := WithInput(body, "env.trial.inputs", "span", is)
		if err != nil {
			return
		}
		got, _ := at(after, "env.trial.inputs", "span")
		require.True(t, value.Equal(got, is))
	})
}
