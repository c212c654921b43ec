package ledger

import (
	"time"

	"golang.org/x/sys/unix"
)

// upTime is a clock that runs on while the machine sleeps and that nobody
// sets: CLOCK_BOOTTIME, clock_gettime(2).
func upTime() time.Duration {
	var ts unix.Timespec
	if err := unix.ClockGettime(unix.CLOCK_BOOTTIME, &ts); err != nil {
		return time.Duration(time.Now().UnixNano())
	}
	return time.Duration(ts.Nano())
}
