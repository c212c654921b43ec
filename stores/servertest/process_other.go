//go:build !unix

package servertest

import (
	"os"
	"os/exec"
)

func interrupt(p *os.Process) error { return p.Kill() }
func runAs(*exec.Cmd, string) error { return nil }
func give(string, string) error     { return nil }
