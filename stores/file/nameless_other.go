//go:build !linux

package file

import (
	"errors"
	"os"
)

// nameless makes no file: other systems have none without a name.
func nameless(string) *os.File { return nil }

func name(*os.File, string) error { return errors.ErrUnsupported }
