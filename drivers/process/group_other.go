//go:build !unix

package process

import "os/exec"

func ownGroup(*exec.Cmd) {}

// killGroup ends the child.
func killGroup(cmd *exec.Cmd) { _ = cmd.Process.Kill() } // it may be gone
