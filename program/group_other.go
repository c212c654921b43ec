//go:build !unix

package program

import "os/exec"

// OwnGroup does nothing here.
func OwnGroup(*exec.Cmd) {}

// KillGroup ends the child.
func KillGroup(cmd *exec.Cmd) { _ = cmd.Process.Kill() } // it may be gone
