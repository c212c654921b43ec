package redact

import (
	"slices"
	"strings"

	"kasbah/core/form"
)

// CommandLine is a command line as it is recorded, told to others and printed to be typed again:
// quoted for a shell, and without the values of settings, which may be credentials. settings
// names the flags, without a dash, that take them as key=value.
func CommandLine(args, settings []string) string {
	words := []string{"kasbah"}
	setting, flags := false, true
	for _, arg := range args {
		name, value, has := strings.Cut(arg, "=")
		isFlag := flags && strings.HasPrefix(arg, "-") && slices.Contains(settings, strings.TrimLeft(name, "-"))
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
		words = append(words, Quoted(arg))
	}
	return strings.Join(words, " ")
}

// withoutValue leaves a key of `key=value` and puts … in place of the rest.
func withoutValue(s string) string {
	if key, _, has := strings.Cut(s, "="); has {
		return key + "=…"
	}
	return s
}

var plainWord = form.Of(`^[\pL\pN_@%+=:,./…^~-]+$`)

// Quoted is a word as a POSIX shell takes it back.
func Quoted(s string) string {
	if plainWord().MatchString(s) && !strings.HasPrefix(s, "~") && !strings.HasPrefix(s, "=") {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
