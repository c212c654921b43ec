package complete

import (
	"flag"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func commands() []Command {
	fs := func() *flag.FlagSet {
		f := flag.NewFlagSet("", flag.ContinueOnError)
		f.String("env", "", "the `environment`")
		f.String("C", "", "work in this `folder`")
		f.String("o", "", "write to this `file`")
		f.Bool("full", false, "show all of it")
		return f
	}
	return []Command{{"look", "look around", "[ADDRESS…]", fs()}, {"ledger log", "what happened", "[WARD|RUN…]", fs()},
		{"ledger show", "what is recorded", "[WARD [NAME]]", fs()}, {"medina show", "one thing", "TYPE ID", fs()}}
}

func source(kind Kind, g Given) []Word {
	switch kind {
	case Environments:
		return plain([]string{"live", "trial"})
	case Wards:
		return plain([]string{"shore", "signal"})
	case Runs:
		return plain([]string{"DCAAGWT6"})
	case ThingTypes:
		return plain([]string{"machine"})
	case Things:
		return plain([]string{"mac-" + g.Args[0] + g.Env})
	case Addresses:
		var out []Word
		for i := range 300 {
			out = append(out, Word{Text: fmt.Sprintf("shore:medina.bucket/log-%d", i)})
		}
		return append(out, Word{Text: "signal:medina.machine/relay"}, Word{Text: "signal:medina.machine/$(reboot)"},
			Word{Text: "signal:a b"},
			Word{Text: "signal:x;ls"}, Word{Text: "signal:`id`"}, Word{Text: "signal:\x1b[2J"})
	}
	return nil
}

// TestLine: what is offered for a line, and what else can stand there.
func TestLine(t *testing.T) {
	for line, want := range map[string]string{
		"":                               "look ledger medina",
		"l":                              "look ledger",
		"ledger ":                        "log show",
		"ledger s":                       "show",
		"ledger log s":                   "shore signal",
		"ledger log D":                   "DCAAGWT6",
		"ledger show shore ":             "",
		"ledger show shore x y":          "",
		"look -e":                        "-env",
		"look -env ":                     "live trial",
		"look -env=t":                    "-env=trial",
		"look -full -env live -f":        "",
		"look -o ":                       "files",
		"look -C ":                       "folders",
		"-C ":                            "folders",
		"-C there led":                   "ledger",
		"look ":                          "shore: signal: open",
		"look sig":                       "signal:medina.machine/relay",
		"look shore:medina.bucket/log-7": "shore:medina.bucket/log-7 shore:medina.bucket/log-70 …",
		"look -- -e":                     "",
		"medina show ":                   "machine",
		"medina show -env live mach ":    "mac-machlive",
		"nonsense ":                      "",
		"nonsense and more ":             "",
	} {
		words := Split(line)
		a := Line(commands(), nil, words, source)
		var got []string
		for _, w := range a.Words {
			got = append(got, w.Text)
		}
		if len(got) > 3 {
			got = append(got[:2], "…")
		}
		for word, is := range map[string]bool{"files": a.Files, "folders": a.Folders, "open": a.Open} {
			if is {
				got = append(got, word)
			}
		}
		require.Equal(t, want, strings.Join(got, " "), line)
	}
}

// TestNothingRuns: a name that another person wrote is never offered if a shell would do more with it than
// take it as a word.
func TestNothingRuns(t *testing.T) {
	for _, typed := range []string{"", "s", "signal:", "signal:m"} {
		for _, shell := range Shells() {
			out := Line(commands(), nil, []string{"look", typed}, source).Write(shell, typed)
			for _, sign := range []string{"$", "`", ";", "(", "\x1b", " b"} {
				_, words, _ := strings.Cut(out, "\n")
				require.NotContains(t, words, sign, "%s %q", shell, typed)
			}
		}
	}
}

// TestSplit: a line is parted as a shell does it.
func TestSplit(t *testing.T) {
	require.Equal(t, []string{"kasbah", "why", "a b", "c"}, Split(`kasbah  why "a b" c`))
	require.Equal(t, []string{"kasbah", "why", ""}, Split(`kasbah why `))
	require.Equal(t, []string{"a b", "it's"}, Split(`a\ b "it's"`))
}

// TestBashWords: bash parts words at colons, so it is given what stands behind the last one.
func TestBashWords(t *testing.T) {
	a := Answer{Words: plain([]string{"signal:medina.machine/relay"})}
	require.Equal(t, "words\nmedina.machine/relay\t\n", a.Write("bash", "signal:med"))
	require.Equal(t, "words\nsignal:medina.machine/relay\t\n", a.Write("zsh", "signal:med"))
}

func FuzzSplit(f *testing.F) {
	f.Add(`kasbah why "a`)
	f.Fuzz(func(t *testing.T, line string) {
		require.NotEmpty(t, Split(line))
		Line(commands(), nil, Split(line), source)
	})
}
