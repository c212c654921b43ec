package process

import (
	"os/exec"
	"runtime"
	"syscall"
)

// startTied starts a child that the system ends together with this program, however that
// ends: what a killed run had asked for must not be done after another run has found out
// about it. The tie is to the thread that starts the child, so a goroutine keeps that
// thread until ended is closed.
func startTied(cmd *exec.Cmd, ended <-chan struct{}) error {
	cmd.SysProcAttr.Pdeathsig = syscall.SIGKILL
	started := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		defer runtime.UnlockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			<-ended
		}
	}()
	return <-started
}
