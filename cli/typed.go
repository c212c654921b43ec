package cli

import (
	"regexp"
	"slices"
	"strings"
)

// settingFlags take settings as key=value, among them credentials.
var settingFlags = []string{"with", "to"}

// typedLine is the command line as it is recorded, told to others and printed to be
// typed again: quoted for a shell, and without the values of settings, which may be
// credentials.
func typedLine(args []string) string {
	words := []string{"kasbah"}
	setting, flags := false, true
	for _, arg := range args {
		name, value, has := strings.Cut(arg, "=")
		isFlag := flags && strings.HasPrefix(arg, "-") && slices.Contains(settingFlags, strings.TrimLeft(name, "-"))
		switch {
		case setting:
			arg, setting = withoutValue(arg), false
		case arg == "--":
			flags = false
		case isFlag && has:
			arg = name + "=" + withoutValue(value)
		case isFlag:
			setting = true
		}
		words = append(words, quotedWord(arg))
	}
	return strings.Join(words, " ")
}

// again is the command line to be typed again where it was typed.
func (a *app) again() string {
	if a.dir == "." {
		return a.typed
	}
	return "kasbah -C " + quotedWord(a.dir) + strings.TrimPrefix(a.typed, "kasbah")
}

// withoutValue leaves a key of `key=value` and puts … in place of the rest.
func withoutValue(s string) string {
	if key, _, has := strings.Cut(s, "="); has {
		return key + "=…"
	}
	return s
}

var plainWord = regexp.MustCompile(`^[\pL\pN_@%+=:,./…^~-]+$`)

// quotedWord is a word as a POSIX shell takes it back.
func quotedWord(s string) string {
	if plainWord.MatchString(s) && !strings.HasPrefix(s, "~") && !strings.HasPrefix(s, "=") {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
