package problem

import (
	"fmt"
)

// UsageError says that what was asked for cannot be: a name that nothing has, an address of
// two resources, flags that exclude each other. Its sentence is for the person who asked.
type UsageError struct {
	Message string
	Hint    string // what to write instead; may be empty
}

// Error is the message without its hint.
func (e *UsageError) Error() string { return e.Message }

// Usage makes a UsageError without a hint.
func Usage(format string, args ...any) error {
	return &UsageError{Message: fmt.Sprintf(format, args...)}
}
