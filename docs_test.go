package kasbah_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestSecurityIsTested: each test that docs/security.md names is there.
func TestSecurityIsTested(t *testing.T) {
	page, err := os.ReadFile("docs/security.md")
	require.NoError(t, err)
	var tests strings.Builder
	scripts := map[string]bool{}
	require.NoError(t, filepath.WalkDir(".", func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case strings.HasSuffix(path, ".txtar"):
			scripts[filepath.Base(path)] = true
		case strings.HasSuffix(path, "_test.go"):
			body, err := os.ReadFile(path)
			tests.Write(body)
			return err
		}
		return nil
	}))
	named := regexp.MustCompile("`(Test[A-Za-z]+)`|`([a-z_]+\\.txtar)`").FindAllStringSubmatch(string(page), -1)
	require.Greater(t, len(named), 30)
	for _, n := range named {
		if n[1] != "" {
			require.Contains(t, tests.String(), "func "+n[1]+"(", "docs/security.md names a test that is not there")
		} else {
			require.True(t, scripts[n[2]], "docs/security.md names %s, which is not there", n[2])
		}
	}
	for _, line := range regexp.MustCompile(`(?m)^- (Prevented|Noticed): [^\n]*(\n  [^\n]*)*`).FindAllString(string(page), -1) {
		require.Regexp(t, `\(`+"`", line, "a promise without its test")
	}
}
