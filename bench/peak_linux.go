package main

import (
	"os"
	"syscall"
)

// peakOf is the most memory that a process that has ended held, in bytes.
func peakOf(p *os.ProcessState) int64 {
	u, ok := p.SysUsage().(*syscall.Rusage)
	if !ok {
		return 0
	}
	return u.Maxrss << 10
}
