package help_test

import (
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"kasbah/help"
)

// TestPages: pages fit a terminal, begin with what they are about, and are told from commands and groups.
func TestPages(t *testing.T) {
	names, about := help.Pages()
	require.Equal(t, []string{"config", "environment", "exit-codes", "patterns"}, names)
	for i, name := range names {
		text, is := help.Page(name)
		require.True(t, is)
		require.NotEmpty(t, about[i])
		for _, line := range strings.Split(text, "\n") {
			require.LessOrEqual(t, utf8.RuneCountInString(line), 100, "%s: %s", name, line)
		}
	}
	_, is := help.Page("../help")
	require.False(t, is)
}

// TestMeant: a general verb leads to commands that there are, and is none itself.
func TestMeant(t *testing.T) {
	var commands []string
	for _, g := range help.Groups() {
		commands = append(commands, g.Commands...)
	}
	for _, verb := range []string{"deploy", "diff", "delete", "status", "validate", "format", "import", "Rollback"} {
		says := help.Meant(verb)
		require.NotEmpty(t, says, verb)
		require.NotContains(t, commands, strings.ToLower(verb))
		for _, m := range regexp.MustCompile("`kasbah ([a-z]+)").FindAllStringSubmatch(says, -1) {
			require.True(t, slices.Contains(commands, m[1]), "%s: %s", verb, m[1])
		}
	}
	require.Empty(t, help.Meant("propose"))
	require.Empty(t, help.Meant("zzz"))
}
