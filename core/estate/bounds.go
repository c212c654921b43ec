package estate

import (
	"kasbah/core/problem"
)

const (
	maxFile   = 4 << 20 // bytes of a kasbah.toml or a kit.toml
	maxNested = 100     // lists and tables in each other
)

// bounded is a problem for a file that no person has written: one that is too large, or
// whose lists are nested so deep that reading them takes all memory there is.
func bounded(file string, body []byte) error {
	if len(body) > maxFile {
		return problem.At(problem.Position{File: file}, "it is larger than %d bytes", maxFile)
	}
	depth, line := 0, 1
	var quote byte // that a text began with
	for i := 0; i < len(body); i++ {
		c := body[i]
		switch {
		case c == '\n':
			line++
			quote = 0 // texts over several lines hold few brackets, or are refused when they are read
		case quote != 0:
			if c == '\\' && quote == '"' {
				i++
			} else if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '#':
			for i+1 < len(body) && body[i+1] != '\n' {
				i++
			}
		case c == '[' || c == '{':
			if depth++; depth > maxNested {
				return problem.At(problem.Position{File: file, Line: line},
					"lists and tables are nested deeper than %d levels", maxNested)
			}
		case (c == ']' || c == '}') && depth > 0:
			depth--
		}
	}
	return nil
}
