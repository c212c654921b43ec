package code

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// place is where | stands in a text, and the text without it.
func place(t *testing.T, marked string) (*File, int) {
	at := strings.Index(marked, "|")
	require.GreaterOrEqual(t, at, 0)
	return Read("shore/a.star", []byte(marked[:at]+marked[at+1:])), at
}

// TestPlace: what stands around a place, in texts that are right and in texts that are not finished.
func TestPlace(t *testing.T) {
	for _, c := range []struct{ marked, word, before, fn, arg string }{
		{"x = medina.mach|", "mach", "medina", "", ""},
		{"x = medina.|\ny = 3", "", "medina", "", ""},
		{"medina.machine(\"a\", si|)", "si", "", "medina.machine", "1"},
		{"medina.machine(\"a\", size = \"ti|", "ti", "", "medina.machine", "size"},
		{"medina.machine(\n    \"a\",\n    size = |\nmedina.network(\"b\")", "", "", "medina.machine", "size"},
		{"f(g(1, 2), [3, 4], x = {\"a\": h(|)})", "", "", "h", "0"},
		{"publish(\"a\", {\"k\": s|})", "s", "", "", ""},
		{"medina.machine(\"a\", subnet = deck, |)", "", "", "medina.machine", "2"},
		{"x = stations[\"a\"].ga|", "ga", "stations[\"a\"]", "", ""},
		{"# medina.|", "", "", "", ""},
		{"broken = f(\ny = medina.su|", "su", "medina", "", ""},
	} {
		f, at := place(t, c.marked)
		p := f.Place(at)
		require.Equal(t, c.word, f.Text(p.Word), c.marked)
		require.Equal(t, c.before, p.Before, c.marked)
		if c.fn == "" {
			continue
		}
		require.NotEmpty(t, p.Calls, c.marked)
		require.Equal(t, c.fn, p.Calls[0].Fn, c.marked)
		if c.arg >= "0" && c.arg <= "9" {
			require.Equal(t, int(c.arg[0]-'0'), p.Calls[0].Arg, c.marked)
		} else {
			require.Equal(t, c.arg, p.Calls[0].Name, c.marked)
		}
	}
}

// TestHealed: a statement that is not finished takes no other one with it.
func TestHealed(t *testing.T) {
	f := Read("a.star", []byte("a = 1\nb = f(\nc = a + 2\ndef g(x):\n    return x +\nd = [\n    1,\n]\n"))
	require.Error(t, f.Err)
	require.ElementsMatch(t, []string{"a", "c", "g", "d"}, f.Exports())
	require.NotNil(t, f.Top("c"))
	require.Len(t, f.Uses(f.Top("a")), 2)

	f, at := place(t, "def _s(network, zone):\n    quay = medina.subnet(\"q\", network = |)\n    gauge = medina.machine(\"g\")\n    return gauge\n\ns = kit(_s)\n")
	require.ElementsMatch(t, []string{"_s", "network", "zone", "s"}, f.Names(at))
	require.NotNil(t, f.Function(at))
	require.Contains(t, f.Exports(), "s")
}

// TestEdits: an argument that is added is laid out as those before it.
func TestEdits(t *testing.T) {
	apply := func(text string, e Edit) string { return text[:e.From] + e.Text + text[e.To:] }
	for text, want := range map[string]string{
		"f()":                       "f(x = 1)",
		"f(a)":                      "f(a, x = 1)",
		"f(\n    a,\n    b = 2,\n)": "f(\n    a,\n    b = 2,\n    x = 1,\n)",
		"f(\n    a,\n    b = 2\n)":  "f(\n    a,\n    b = 2,\n    x = 1,\n)",
		"f(\n    a, # first\n)":     "f(\n    a,\n    x = 1, # first\n)",
		"f(\"é\", g(1))":            "f(\"é\", g(1), x = 1)",
	} {
		f := Read("a.star", []byte(text))
		got := apply(text, f.AddArgument(f.Calls()[0], "x = 1"))
		require.Equal(t, want, got)
		require.NoError(t, Read("a.star", []byte(got)).Err)
	}
	f := Read("a.star", []byte("f(care = care(guard = True, excuse = {\"a\": \"b\"}))\ng(care = lasting)\n"))
	edits, err := f.SetCare(f.Calls()[0], "renamed_from", `"x"`)
	require.NoError(t, err)
	require.Equal(t, ", renamed_from = \"x\"", edits[0].Text)
	edits, err = f.AddExcuse(f.Calls()[0], `"c"`, `"d"`)
	require.NoError(t, err)
	require.Equal(t, `, "c": "d"`, edits[0].Text)
	_, err = f.SetCare(f.Calls()[2], "renamed_from", `"x"`)
	require.ErrorContains(t, err, "set elsewhere: lasting")
}

// TestNames: what code at a place can use.
func TestNames(t *testing.T) {
	f, at := place(t, "load(\"m.star\", \"l\")\na = 1\ndef f(p, q = 2, **more):\n    x = p\n    for y in q:\n        z = |y\n    return x\nlater = 1\n")
	require.ElementsMatch(t, []string{"l", "a", "f", "p", "q", "more", "x", "y", "later"}, f.Names(at))
	f, at = place(t, "a = 1\nb = [c + |c for c in a]\nd = 2\n")
	require.ElementsMatch(t, []string{"a", "c"}, f.Names(at))
}
