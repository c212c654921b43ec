package render

import (
	"bytes"
	"crypto/rand"
	"fmt"
	"unicode"
	"unicode/utf8"

	"kasbah/core/form"
)

// Nothing that comes from outside reaches a terminal as anything but text. What this
// program means as a control character it writes behind a mark that nobody outside knows;
// Visible lets those through and no others. So no place that writes can forget it.

// mark comes before each control character that the program means.
var mark = "\uf8ff" + rand.Text()

// control marks the control characters of a text that is ours.
func control(s string) string {
	var b bytes.Buffer
	for _, r := range s {
		if r == '\x1b' || r == '\r' {
			b.WriteString(mark)
		}
		b.WriteRune(r)
	}
	return b.String()
}

// hidden reports whether a character shows nothing, and may change how others are shown:
// control characters, all of Unicode's format characters, line and paragraph separators.
func hidden(r rune) bool {
	return unicode.IsControl(r) || unicode.In(r, unicode.Cf, unicode.Zl, unicode.Zp)
}

// privateKeys are age identities (Bech32, as age-keygen writes them) and private keys in PEM
// form (RFC 7468), also within JSON. A key gets into a message where it was given in place
// of the name of its file.
var privateKeys = form.Of(`(?i)AGE-SECRET-KEY-[A-Z0-9-]+|-----BEGIN [A-Z0-9 ]*PRIVATE KEY-----[A-Za-z0-9+/=\\\s]*(-----END [A-Z0-9 ]*PRIVATE KEY-----)?`)

// Visible is text as it goes to a terminal or a file: with newlines and tabs, with the
// control characters that this program means, with U+FFFD in place of any other and of
// what is no UTF-8, and without private keys.
func Visible(p []byte) []byte {
	if bytes.Contains(p, []byte("SECRET-KEY-")) || bytes.Contains(p, []byte("PRIVATE KEY-----")) {
		p = privateKeys().ReplaceAll(p, []byte("(a private key)"))
	}
	if plain(p) {
		return p
	}
	out := make([]byte, 0, len(p))
	for len(p) > 0 {
		if bytes.HasPrefix(p, []byte(mark)) && len(p) > len(mark) {
			out, p = append(out, p[len(mark)]), p[len(mark)+1:]
			continue
		}
		r, n := utf8.DecodeRune(p)
		if r == '\n' || r == '\t' || !hidden(r) {
			out = utf8.AppendRune(out, r)
		} else {
			out = append(out, "\ufffd"...)
		}
		p = p[n:]
	}
	return out
}

// plain reports whether nothing in a text is to be replaced.
func plain(p []byte) bool {
	for _, c := range p {
		if c >= utf8.RuneSelf || c < ' ' && c != '\n' && c != '\t' || c == 0x7f {
			return false
		}
	}
	return true
}

// Escaped is JSON in which such characters are written as escapes, so that a terminal
// shows them and a program reads what they were.
func Escaped(json []byte) []byte {
	if plain(json) {
		return json
	}
	out := make([]byte, 0, len(json))
	for len(json) > 0 {
		r, n := utf8.DecodeRune(json)
		switch {
		case r == '\n' || r == '\t' || !hidden(r):
			out = append(out, json[:n]...)
		case r > 0xffff:
			r -= 0x10000
			out = fmt.Appendf(out, `\u%04x\u%04x`, 0xd800+(r>>10), 0xdc00+(r&0x3ff))
		default:
			out = fmt.Appendf(out, `\u%04x`, r)
		}
		json = json[n:]
	}
	return out
}
