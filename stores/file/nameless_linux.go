package file

import (
	"fmt"
	"os"

	"golang.org/x/sys/unix"
)

// nameless makes a file in a folder that has no name there yet, or nil where the file system makes none (O_TMPFILE
// in open(2)).
func nameless(dir string) *os.File {
	fd, err := unix.Open(dir, unix.O_TMPFILE|unix.O_WRONLY|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return nil
	}
	return os.NewFile(uintptr(fd), dir)
}

// name gives such a file its name, unless the name is taken.
func name(f *os.File, path string) error {
	return unix.Linkat(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", f.Fd()), unix.AT_FDCWD, path, unix.AT_SYMLINK_FOLLOW)
}
