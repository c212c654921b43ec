//go:build !linux

package process

import "os/exec"

// startTied starts a child. Where the system cannot end it together with a killed
// program, it ends once it has done what it was asked to.
func startTied(cmd *exec.Cmd, _ <-chan struct{}) error { return cmd.Start() }
