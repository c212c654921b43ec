package value

import (
	"strconv"
	"strings"

	"github.com/go-openapi/jsonpointer"
)

// Pointer is the path as a JSON pointer (RFC 6901).
func (p Path) Pointer() string {
	var b strings.Builder
	for _, s := range p {
		b.WriteByte('/')
		if s.Item {
			b.WriteString(strconv.Itoa(s.Index))
		} else {
			b.WriteString(jsonpointer.Escape(s.Key))
		}
	}
	return b.String()
}

// PointerParts are the parts of a JSON pointer without their escapes. A pointer without its
// first slash is taken as well, as some clouds write them.
func PointerParts(pointer string) []string {
	parts := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i := range parts {
		parts[i] = jsonpointer.Unescape(parts[i])
	}
	return parts
}

// FromPointer is a JSON pointer as a path. A whole number is an index, but for the first part:
// attributes have names.
func FromPointer(pointer string) Path {
	var p Path
	for _, part := range PointerParts(pointer) {
		if n, err := strconv.Atoi(part); err == nil && n >= 0 && len(p) > 0 {
			p = append(p, Item(n))
		} else if part != "" {
			p = append(p, Key(part))
		}
	}
	return p
}
