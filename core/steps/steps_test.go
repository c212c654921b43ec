package steps_test

import (
	"fmt"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"kasbah/core/rules"
	"kasbah/core/steps"
)

// sarif is a log with some results.
func sarif(results string) string {
	return `{"version": "2.1.0", "runs": [{"tool": {"driver": {"name": "scan", "rules": [
		{"id": "open", "help": {"text": "close it"}}, {"id": "dim", "defaultConfiguration": {"level": "note"}}]}}, "results": [` + results + `]}]}`
}

// TestRead: what a step found, from each form that it may write.
func TestRead(t *testing.T) {
	for _, c := range []struct {
		name, out string
		code      int
		found     []string // FILE:LINE:COLUMN level message
		wrong     bool
	}{
		{"nothing", "", 0, nil, false},
		{"words and 0", "all is well\n", 0, nil, false},
		{"words and 1", "a door is open\n\n  shore/a.star:3:7: too long\nshore/b.star:9: dim\n", 1,
			[]string{":0:0  a door is open", "shore/a.star:3:7  too long", "shore/b.star:9:0  dim"}, false},
		{"a URL is no place", "https://x:8080/y is down", 1, []string{":0:0  https://x:8080/y is down"}, false},
		{"a result", sarif(`{"ruleId": "open", "message": {"text": "a door"}, "locations": [{"physicalLocation": {"artifactLocation": {"uri": "shore/a%20b.star"}, "region": {"startLine": 2}}}]}`), 0,
			[]string{"shore/a b.star:2:0  open: a door"}, false},
		{"what passed, is suppressed or does not apply", sarif(`{"ruleId": "open", "kind": "pass", "message": {"text": "x"}}, {"kind": "notApplicable", "message": {"text": "x"}},
			{"ruleId": "open", "message": {"text": "x"}, "suppressions": [{"kind": "external", "status": "accepted"}]}`), 1, nil, false},
		{"a suppression that was rejected", sarif(`{"message": {"text": "x"}, "suppressions": [{"kind": "external", "status": "rejected"}]}`), 0, []string{":0:0  x"}, false},
		{"a note, by its rule and by itself", sarif(`{"ruleId": "dim", "message": {"text": "x"}}, {"level": "note", "message": {"text": "y"}}, {"kind": "review", "message": {"text": "z"}}`), 0,
			[]string{":0:0 warn dim: x", ":0:0 warn y", ":0:0 warn z"}, false},
		{"a check", `{"format": "kasbah.check/1", "problems": [{"level": "error", "file": "a.star", "line": 1, "column": 2, "ward": "shore", "address": "medina.bucket/b", "message": "m", "hint": "h"}, {"level": "note", "file": "", "line": 0, "column": 0, "message": "n"}]}`, 0,
			[]string{"a.star:1:2  m", ":0:0 warn n"}, false},
		{"an empty check", `{"format": "kasbah.check/1", "problems": []}`, 0, nil, false},
		{"JSON of another form", `{"lamp": 1}`, 0, nil, true},
		{"half of it", `{"version": "2.1.0", "runs": [`, 0, nil, true},
		{"two of it", sarif("") + sarif(""), 0, nil, true},
		{"another version", `{"version": "1.0.0", "runs": []}`, 0, nil, true},
		{"a list", `[1]`, 1, nil, true},
		{"bytes", "\xff\xfe\x00lamp", 0, nil, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			found, err := steps.Read([]byte(c.out), c.code)
			if c.wrong {
				require.ErrorIs(t, err, steps.ErrNonsense)
				return
			}
			require.NoError(t, err)
			var got []string
			for _, f := range found {
				got = append(got, fmt.Sprintf("%s:%d:%d %s %s", f.Position.File, f.Position.Line, f.Position.Column, f.Level,
					f.Message))
			}
			require.Equal(t, c.found, got)
		})
	}
	many, err := steps.Read([]byte(strings.Repeat("lamp\n", 5000)), 1)
	require.NoError(t, err)
	require.Len(t, many, 1001)
	require.Equal(t, "and 4000 more findings, which are not kept", many[1000].Message)
}

// FuzzRead: nothing that a step writes ends the program, and every finding says something.
func FuzzRead(f *testing.F) {
	for _, seed := range []string{"", "a:1:2: b", sarif(`{"ruleId": "open", "ruleIndex": -1, "message": {"text": "x"}}`),
		`{"format": "kasbah.check/1", "problems": [{}]}`, "[", "\xff"} {
		f.Add([]byte(seed), 1)
	}
	f.Fuzz(func(t *testing.T, out []byte, code int) {
		found, err := steps.Read(out, code)
		if err != nil {
			require.ErrorIs(t, err, steps.ErrNonsense)
			require.Empty(t, found)
		}
		for _, one := range found {
			require.True(t, one.Level == "" || one.Level == rules.Warn)
			require.True(t, utf8.ValidString(one.Message))
		}
	})
}
