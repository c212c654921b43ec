//go:build unix

package process

import (
	"os/exec"
	"syscall"
)

// ownGroup keeps an interrupt at the terminal from the child: a run that is told
// to stop lets its calls finish.
func ownGroup(cmd *exec.Cmd) { cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} }

// killGroup ends the child and what it has started.
func killGroup(cmd *exec.Cmd) { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) } // it may be gone
