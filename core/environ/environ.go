// Package environ says which environment variables the programs get that Kasbah starts:
// git, those that give credentials, and drivers. Its own settings, secrets and keys are
// never among them, nor is anything else that happens to be there.
package environ

import (
	"os"
	"slices"
	"strings"
)

// allowed are the variables that a program needs to find its files, its network and its
// user's agents. One that ends with * stands for all that begin so.
var allowed = []string{
	"PATH", "HOME", "USER", "LOGNAME", "SHELL", "PWD", "TERM", "COLORTERM", "LANG", "LANGUAGE", "LC_*", "TZ",
	"TMPDIR", "TMP", "TEMP", "XDG_*", "DBUS_SESSION_BUS_ADDRESS", "DISPLAY", "WAYLAND_DISPLAY",
	"HTTP_PROXY", "HTTPS_PROXY", "NO_PROXY", "ALL_PROXY", "http_proxy", "https_proxy", "no_proxy", "all_proxy",
	"SSL_CERT_FILE", "SSL_CERT_DIR", "SSH_AUTH_SOCK", "SSH_AGENT_PID", "GNUPGHOME", "GPG_TTY", "GIT_SSH",
	"GIT_SSH_COMMAND", "GIT_CONFIG_*",
	"SystemRoot", "SYSTEMROOT", "ComSpec", "COMSPEC", "PATHEXT", "USERPROFILE", "APPDATA", "LOCALAPPDATA",
	"ProgramData", "windir", "WINDIR",
}

// For is the environment of a program: what is allowed, and what is named besides. Names
// that begin with KASBAH_ are never given away.
func For(besides ...string) []string {
	var out []string
	for _, pair := range os.Environ() {
		name, _, _ := strings.Cut(pair, "=")
		if Given(name, besides...) {
			out = append(out, pair)
		}
	}
	return out
}

// Given reports whether a program gets a variable.
func Given(name string, besides ...string) bool {
	if strings.HasPrefix(name, "KASBAH_") {
		return false
	}
	return slices.Contains(besides, name) || slices.ContainsFunc(allowed, func(a string) bool {
		begin, open := strings.CutSuffix(a, "*")
		return name == a || open && strings.HasPrefix(name, begin)
	})
}
