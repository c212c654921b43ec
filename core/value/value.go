// Package value holds attribute values: what a declaration gives, a cloud
// answers and a ledger records.
//
// A value is one of the Go types nil, bool, int64, float64, string, []any and
// map[string]any, or a *Pending where it is not known yet. No other type ever
// appears inside a value; Normal makes it so.
package value

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Map is a set of attributes by name.
type Map = map[string]any

// Equal reports whether a and b are the same value. Whole numbers are equal
// across int64 and float64, as JSON does not tell them apart. A pending value
// equals only a pending value made from the same sources in the same way.
func Equal(a, b any) bool {
	switch a := a.(type) {
	case nil:
		return b == nil
	case bool:
		b, ok := b.(bool)
		return ok && a == b
	case string:
		b, ok := b.(string)
		return ok && a == b
	case int64:
		switch b := b.(type) {
		case int64:
			return a == b
		case float64:
			return float64(a) == b
		}
		return false
	case float64:
		switch b := b.(type) {
		case float64:
			return a == b
		case int64:
			return a == float64(b)
		}
		return false
	case []any:
		b, ok := b.([]any)
		if !ok || len(a) != len(b) {
			return false
		}
		for i := range a {
			if !Equal(a[i], b[i]) {
				return false
			}
		}
		return true
	case map[string]any:
		b, ok := b.(map[string]any)
		if !ok || len(a) != len(b) {
			return false
		}
		for k, av := range a {
			bv, ok := b[k]
			if !ok || !Equal(av, bv) {
				return false
			}
		}
		return true
	case *Pending:
		b, ok := b.(*Pending)
		return ok && (a == b || string(Encode(a)) == string(Encode(b)))
	}
	return false
}

// Normal turns what decoders and Go code hand over (ints of any width, json
// numbers, typed slices of any) into the types this package knows.
// Anything else is an error that names the Go type.
func Normal(v any) (any, error) {
	switch v := v.(type) {
	case nil, bool, int64, string, *Pending:
		return v, nil
	case float64:
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return nil, fmt.Errorf("%v is not a number that can be recorded", v)
		}
		return v, nil
	case int:
		return int64(v), nil
	case interface{ Int64() (int64, error) }: // json.Number, without importing it here
		if n, err := v.Int64(); err == nil {
			return n, nil
		}
		f, ok := v.(interface{ Float64() (float64, error) })
		if !ok {
			return nil, fmt.Errorf("a number of type %T", v)
		}
		n, err := f.Float64()
		if err != nil {
			return nil, err
		}
		return Normal(n)
	case []any:
		for i := range v {
			n, err := Normal(v[i])
			if err != nil {
				return nil, err
			}
			v[i] = n
		}
		return v, nil
	case map[string]any:
		for k := range v {
			n, err := Normal(v[k])
			if err != nil {
				return nil, err
			}
			v[k] = n
		}
		return v, nil
	}
	return nil, fmt.Errorf("a value of type %T", v)
}

// Clone copies v so that the copy's lists and maps are its own. Pending
// values never change and are shared.
func Clone(v any) any {
	switch v := v.(type) {
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = Clone(v[i])
		}
		return out
	case map[string]any:
		return CloneMap(v)
	}
	return v
}

// Replace copies a value with everything in it that is no list and no map put
// through leaf.
func Replace(v any, leaf func(any) any) any {
	switch v := v.(type) {
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = Replace(v[i], leaf)
		}
		return out
	case map[string]any:
		out := make(Map, len(v))
		for k, x := range v {
			out[k] = Replace(x, leaf)
		}
		return out
	}
	return leaf(v)
}

// CloneMap is Clone for a set of attributes.
func CloneMap(m Map) Map {
	if m == nil {
		return nil
	}
	out := make(Map, len(m))
	for k, v := range m {
		out[k] = Clone(v)
	}
	return out
}

// Keys lists the keys of m in byte order.
func Keys[V any](m map[string]V) []string {
	return sorted(m, make([]string, 0, len(m)))
}

// few is how many keys a map has most often at most.
const few = 8

// sorted is Keys into a slice that is there already.
func sorted[V any](m map[string]V, keys []string) []string {
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// Kind names the kind of v in the words of the language: text, int, number,
// bool, list, map, none, pending.
func Kind(v any) string {
	switch v.(type) {
	case nil:
		return "none"
	case bool:
		return "bool"
	case int64:
		return "int"
	case float64:
		return "number"
	case string:
		return "text"
	case []any:
		return "list"
	case map[string]any:
		return "map"
	case *Pending:
		return "pending"
	}
	return fmt.Sprintf("%T", v)
}

// Plain writes v for people on one line: texts bare where that is clear,
// lists and maps in brackets, pending values by their source.
func Plain(v any) string { return writePlain(v, (*Pending).String) }

// PlainIn is Plain for people in a ward: sources in other wards have theirs
// in front.
func PlainIn(ward string, v any) string {
	return writePlain(v, func(p *Pending) string { return p.In(ward) })
}

func writePlain(v any, source func(*Pending) string) string {
	var b strings.Builder
	plain(&b, v, true, source)
	return b.String()
}

func plain(b *strings.Builder, v any, top bool, source func(*Pending) string) {
	switch v := v.(type) {
	case nil:
		b.WriteString("none")
	case bool:
		b.WriteString(strconv.FormatBool(v))
	case int64:
		b.WriteString(strconv.FormatInt(v, 10))
	case float64:
		b.WriteString(strconv.FormatFloat(v, 'g', -1, 64))
	case string:
		if top && clear(v) {
			b.WriteString(v)
		} else {
			b.WriteString(strconv.Quote(v))
		}
	case []any:
		b.WriteByte('[')
		for i, e := range v {
			if i > 0 {
				b.WriteString(", ")
			}
			plain(b, e, false, source)
		}
		b.WriteByte(']')
	case map[string]any:
		b.WriteByte('{')
		for i, k := range Keys(v) {
			if i > 0 {
				b.WriteString(", ")
			}
			if clear(k) {
				b.WriteString(k)
			} else {
				b.WriteString(strconv.Quote(k))
			}
			b.WriteString(": ")
			plain(b, v[k], false, source)
		}
		b.WriteByte('}')
	case *Pending:
		if IsSecret(v) {
			b.WriteString("(secret)")
			return
		}
		if v.Ref == nil { // a text with places to be filled in
			b.WriteString(strconv.Quote(source(v)))
			return
		}
		b.WriteString("from " + source(v))
	default:
		fmt.Fprintf(b, "%v", v)
	}
}

// clear reports whether s reads as a text without quotes: not empty, no
// control characters, no spaces at its ends, and not the look of another kind.
func clear(s string) bool {
	if s == "" || s != strings.TrimSpace(s) {
		return false
	}
	switch s {
	case "none", "true", "false":
		return false
	}
	for _, r := range s {
		if !strconv.IsPrint(r) || r == '"' {
			return false
		}
	}
	if _, err := strconv.ParseFloat(s, 64); err == nil {
		return false
	}
	return s[0] != '[' && s[0] != '{'
}
