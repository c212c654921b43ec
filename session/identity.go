package session

import (
	"cmp"
	"os"
	"os/user"
	"strings"
	"unicode"

	"kasbah/core/ledger"
)

// Acting is the person who runs the program: KASBAH_WHO, or their name on this machine.
func Acting() string {
	if s := os.Getenv("KASBAH_WHO"); s != "" {
		return s
	}
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return cmp.Or(os.Getenv("USER"), "somebody")
}

// Identity is who acts, with this machine and process, and the version of the program.
func Identity(who, program string) ledger.Identity {
	host, err := os.Hostname()
	if err != nil {
		host = "unknown-host"
	}
	host = strings.Map(func(r rune) rune {
		if !unicode.IsPrint(r) {
			return '?'
		}
		return r
	}, host)
	return ledger.Identity{Who: who, Host: host, Program: program, Process: ledger.ThisProcess()}
}
