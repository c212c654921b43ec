package ledger

import (
	"os"
	"strconv"
	"strings"
)

// Process identifies a running program, so that another one on the same
// machine can see whether it still runs. Fields that the system does not
// tell are empty, and then nothing is concluded from it.
type Process struct {
	Boot      string `json:"boot,omitempty"`      // of this start of the machine
	Namespace string `json:"namespace,omitempty"` // in which the number counts
	PID       int    `json:"pid,omitempty"`
	Start     string `json:"start,omitempty"` // when it started, in the system's own units
}

// ThisProcess identifies the calling program.
func ThisProcess() Process {
	pid := os.Getpid()
	return Process{Boot: bootID(), Namespace: namespace(), PID: pid, Start: startOf(pid)}
}

func bootID() string {
	b, err := os.ReadFile("/proc/sys/kernel/random/boot_id")
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(b))
}

func namespace() string {
	s, err := os.Readlink("/proc/self/ns/pid")
	if err != nil {
		return ""
	}
	return s
}

// startOf is field 22 of /proc/PID/stat (proc(5)), or "" when there is no
// such process.
func startOf(pid int) string {
	b, err := os.ReadFile("/proc/" + strconv.Itoa(pid) + "/stat")
	if err != nil {
		return ""
	}
	tail := string(b)
	fields := strings.Fields(tail[strings.LastIndexByte(tail, ')')+1:]) // the name may hold anything
	if len(fields) < 20 || fields[0] == "Z" {
		return ""
	}
	return fields[19]
}

// gone reports whether the process is known not to run any more: same boot,
// same namespace, and no such process.
func (p Process) gone() bool {
	if p.Boot == "" || p.Namespace == "" || p.Start == "" || p.Boot != bootID() || p.Namespace != namespace() {
		return false
	}
	return startOf(p.PID) != p.Start
}
