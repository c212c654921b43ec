//go:build unix

package servertest

import (
	"os"
	"os/exec"
	"os/user"
	"strconv"
	"syscall"
)

func interrupt(p *os.Process) error { return p.Signal(os.Interrupt) }

func ids(name string) (uid, gid int, err error) {
	u, err := user.Lookup(name)
	if err != nil {
		return 0, 0, err
	}
	if uid, err = strconv.Atoi(u.Uid); err != nil {
		return 0, 0, err
	}
	gid, err = strconv.Atoi(u.Gid)
	return uid, gid, err
}

// runAs makes a command run as another user, and end with this process.
func runAs(c *exec.Cmd, name string) error {
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if name == "" {
		return nil
	}
	uid, gid, err := ids(name)
	c.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	return err
}

// give makes a folder another user's.
func give(dir, name string) error {
	uid, gid, err := ids(name)
	if err != nil {
		return err
	}
	return os.Chown(dir, uid, gid)
}
