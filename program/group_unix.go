//go:build unix

package program

import (
	"os/exec"
	"syscall"
)

// OwnGroup keeps an interrupt at the terminal from the child: a run that is asked
// to stop lets its calls finish.
func OwnGroup(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// KillGroup ends the child and what it has started.
func KillGroup(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) } // it may be gone
