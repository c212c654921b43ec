// Package form has patterns that cost nothing until they are used: a regular expression that is compiled when the
// program starts is paid for by each command.
package form

import (
	"regexp"
	"sync"
)

// Of is a pattern (RE2), compiled at its first use. It panics then if it is wrong.
func Of(pattern string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(pattern) })
}
