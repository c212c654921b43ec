package propose

import (
	"regexp"
	"strings"
)

// Pattern turns a pattern of addresses into a test: `*` stands for anything
// but a slash, `**` for anything.
func Pattern(pattern string) func(address string) bool {
	quoted := regexp.QuoteMeta(strings.ToValidUTF8(pattern, "?"))
	quoted = strings.ReplaceAll(quoted, `\*\*`, ".*")
	quoted = strings.ReplaceAll(quoted, `\*`, "[^/]*")
	re := regexp.MustCompile("(?s)^" + quoted + "$") // every piece is quoted
	return re.MatchString
}
