package declare

import (
	"fmt"
	"strconv"
	"strings"

	"go.starlark.net/lib/json"
	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"
	"go.starlark.net/syntax"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// written is the part of a text that v makes with %s, {} or str(). A handle
// is refused: what a resource is called is one of its attributes.
func (ev *evaluator) written(v starlark.Value) (value.Part, error) {
	switch v := v.(type) {
	case *pending:
		return value.Part{Value: v.p}, nil
	case starlark.String:
		return value.Part{Text: string(v)}, nil
	case *Handle:
		return value.Part{}, fmt.Errorf("%s is a handle, not a text: write one of its attributes, such as .%s",
			v.Address, v.typ.ID)
	case *found:
		return value.Part{}, fmt.Errorf("%s is a handle, not a text: write one of its attributes, such as .%s",
			v.Address, v.Find.Type.ID)
	}
	if err := ev.known("writing a "+v.Type()+" into a text", v); err != nil {
		return value.Part{}, err
	}
	return value.Part{Text: v.String()}, nil
}

// joined makes a text of parts: a plain one when nothing in it is pending.
func (ev *evaluator) joined(parts []value.Part) starlark.Value {
	var b strings.Builder
	for _, p := range parts {
		if p.Value != nil {
			return ev.text(parts...)
		}
		b.WriteString(p.Text)
	}
	return starlark.String(b.String())
}

// special reports whether an argument needs more than the interpreter's own
// formatting.
func (ev *evaluator) special(vs ...starlark.Value) (bool, error) {
	for _, v := range vs {
		switch v.(type) {
		case *Handle, *found:
			return true, nil
		}
		p, err := find(v, ev.limits.Levels)
		if p != nil || err != nil {
			return p != nil, err
		}
	}
	return false, nil
}

// formatted answers for the formats that names are made with: texts and whole
// numbers put in by %s and %d. Estates make them by the hundred thousand, and the
// interpreter's own way takes five times as long. Whatever else there is, mistakes
// among it, it leaves to that.
func formatted(format string, y starlark.Value) (string, bool) {
	args, several := y.(starlark.Tuple)
	out, rest := make([]byte, 0, len(format)+24), format
	for used := 0; ; {
		i := strings.IndexByte(rest, '%')
		if i < 0 {
			return string(append(out, rest...)), several && used == len(args) || !several && used == 1
		}
		if i+1 == len(rest) {
			return "", false
		}
		verb := rest[i+1]
		out, rest = append(out, rest[:i]...), rest[i+2:]
		if verb == '%' {
			out = append(out, '%')
			continue
		}
		arg := y
		if several {
			if used >= len(args) {
				return "", false
			}
			arg = args[used]
		} else if used > 0 {
			return "", false
		}
		used++
		switch arg := arg.(type) {
		case starlark.String:
			if verb != 's' {
				return "", false
			}
			out = append(out, arg...)
		case starlark.Int:
			n, small := arg.Int64()
			if !small || verb != 's' && verb != 'd' {
				return "", false
			}
			out = strconv.AppendInt(out, n, 10)
		default:
			return "", false
		}
	}
}

// mod is `%`: arithmetic, or formatting with %s.
func (ev *evaluator) mod(x, y starlark.Value) (starlark.Value, error) {
	if p, ok := x.(*pending); ok {
		return nil, p.cannot("arithmetic or formatting (%)")
	}
	format, ok := x.(starlark.String)
	if !ok {
		if p, ok := y.(*pending); ok {
			return nil, p.cannot("arithmetic (%)")
		}
		return starlark.Binary(syntax.PERCENT, x, y)
	}
	if s, ok := formatted(string(format), y); ok {
		return starlark.String(s), nil
	}
	if odd, err := ev.special(y); err != nil {
		return nil, err
	} else if !odd {
		return starlark.Binary(syntax.PERCENT, x, y)
	}
	args, ok := y.(starlark.Tuple)
	if !ok {
		args = starlark.Tuple{y}
	}
	var parts []value.Part
	rest, used := string(format), 0
	for {
		i := strings.IndexByte(rest, '%')
		if i < 0 {
			break
		}
		parts = append(parts, value.Part{Text: rest[:i]})
		rest = rest[i+1:]
		if strings.HasPrefix(rest, "%") {
			parts = append(parts, value.Part{Text: "%"})
			rest = rest[1:]
			continue
		}
		var arg starlark.Value
		if strings.HasPrefix(rest, "(") {
			end := strings.IndexByte(rest, ')')
			m, ok := y.(starlark.Mapping)
			if end < 0 || !ok {
				return nil, fmt.Errorf("a format with %%(name) needs a map of values")
			}
			v, found, err := m.Get(starlark.String(rest[1:end]))
			if err != nil || !found {
				return nil, fmt.Errorf("the format's %q is not in the map", rest[1:end])
			}
			arg, rest = v, rest[end+1:]
			used = len(args)
		} else {
			if used >= len(args) {
				return nil, fmt.Errorf("not enough values for the format %q", string(format))
			}
			arg = args[used]
			used++
		}
		if rest == "" {
			return nil, fmt.Errorf("the format %q ends in %%", string(format))
		}
		verb := rest[:1]
		rest = rest[1:]
		if verb == "s" {
			part, err := ev.written(arg)
			if err != nil {
				return nil, err
			}
			parts = append(parts, part)
			continue
		}
		if err := ev.known("%"+verb, arg); err != nil {
			return nil, err
		}
		s, err := starlark.Binary(syntax.PERCENT, starlark.String("%"+verb), starlark.Tuple{arg})
		if err != nil {
			return nil, err
		}
		parts = append(parts, value.Part{Text: string(s.(starlark.String))})
	}
	if _, isMap := y.(*starlark.Dict); used < len(args) && !isMap {
		return nil, fmt.Errorf("too many values for the format %q", string(format))
	}
	return ev.joined(append(parts, value.Part{Text: rest})), nil
}

// format is the text method of that name.
func (ev *evaluator) format(format string, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	named := map[string]starlark.Value{}
	all := append(starlark.Tuple(nil), args...)
	for _, kv := range kwargs {
		named[string(kv[0].(starlark.String))] = kv[1]
		all = append(all, kv[1])
	}
	if odd, err := ev.special(all...); err != nil {
		return nil, err
	} else if !odd {
		b, err := starlark.String(format).Attr("format")
		if err != nil {
			return nil, err
		}
		return starlark.Call(&starlark.Thread{}, b, args, kwargs)
	}
	var parts []value.Part
	rest, next := format, 0
	for {
		i := strings.IndexAny(rest, "{}")
		if i < 0 {
			break
		}
		parts = append(parts, value.Part{Text: rest[:i]})
		brace := rest[i]
		rest = rest[i+1:]
		if rest != "" && rest[0] == brace {
			parts = append(parts, value.Part{Text: string(brace)})
			rest = rest[1:]
			continue
		}
		end := strings.IndexByte(rest, '}')
		if brace == '}' || end < 0 {
			return nil, fmt.Errorf("a single brace in the format %q", format)
		}
		field, conversion, _ := strings.Cut(rest[:end], "!")
		rest = rest[end+1:]
		var arg starlark.Value
		if field == "" {
			field = strconv.Itoa(next)
			next++
		}
		if n, err := strconv.Atoi(field); err == nil {
			if n >= len(args) {
				return nil, fmt.Errorf("not enough values for the format %q", format)
			}
			arg = args[n]
		} else if arg = named[field]; arg == nil {
			return nil, fmt.Errorf("the format's %q is not among the values", field)
		}
		if conversion == "r" {
			if err := ev.known("{!r}", arg); err != nil {
				return nil, err
			}
			parts = append(parts, value.Part{Text: arg.String()})
			continue
		}
		part, err := ev.written(arg)
		if err != nil {
			return nil, err
		}
		parts = append(parts, part)
	}
	return ev.joined(append(parts, value.Part{Text: rest})), nil
}

// join is the text method of that name.
func (ev *evaluator) join(sep string, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value, error) {
	var list starlark.Value
	if err := starlark.UnpackPositionalArgs("join", args, kwargs, 1, &list); err != nil {
		return nil, err
	}
	if p, ok := list.(*pending); ok {
		return nil, p.cannot("join")
	}
	it := starlark.Iterate(list)
	if it == nil {
		return nil, fmt.Errorf("join must be a list of texts, not %s", schema.WithArticle(list.Type()))
	}
	defer it.Done()
	var parts []value.Part
	var e starlark.Value
	size := 0
	for i := 0; it.Next(&e); i++ {
		if i > 0 && sep != "" {
			parts = append(parts, value.Part{Text: sep})
		}
		switch v := e.(type) {
		case starlark.String, *pending, *Handle:
			part, err := ev.written(v)
			if err != nil {
				return nil, err
			}
			parts = append(parts, part)
			if size += len(part.Text) + len(sep); size > ev.limits.TextBytes {
				return nil, fmt.Errorf("join would make a text over the limit of %d bytes", ev.limits.TextBytes)
			}
		default:
			return nil, fmt.Errorf("join takes texts; item %d is %s", i, schema.WithArticle(e.Type()))
		}
	}
	return ev.joined(parts), nil
}

// str is the built-in of that name.
func (ev *evaluator) str(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var v starlark.Value
	if err := starlark.UnpackPositionalArgs("str", args, kwargs, 1, &v); err != nil {
		return nil, err
	}
	part, err := ev.written(v)
	if err != nil {
		return nil, err
	}
	return ev.joined([]value.Part{part}), nil
}

// jsonEncode is json.encode: what is pending is filled in later, escaped.
func (ev *evaluator) jsonEncode(t *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var v starlark.Value
	if err := starlark.UnpackPositionalArgs("json.encode", args, kwargs, 1, &v); err != nil {
		return nil, err
	}
	if odd, err := ev.special(v); err != nil {
		return nil, err
	} else if !odd {
		return starlark.Call(t, json.Module.Members["encode"], args, nil)
	}
	var parts []value.Part
	if err := ev.jsonParts(t, v, &parts); err != nil {
		return nil, err
	}
	return ev.joined(parts), nil
}

func (ev *evaluator) jsonParts(t *starlark.Thread, v starlark.Value, parts *[]value.Part) error {
	lit := func(s string) { *parts = append(*parts, value.Part{Text: s}) }
	quoted := func(v starlark.Value) error {
		s, err := starlark.Call(t, json.Module.Members["encode"], starlark.Tuple{v}, nil)
		if err == nil {
			lit(string(s.(starlark.String)))
		}
		return err
	}
	object := func(keys []string, get func(string) (starlark.Value, error)) error {
		lit("{")
		for i, k := range keys {
			if i > 0 {
				lit(",")
			}
			if err := quoted(starlark.String(k)); err != nil {
				return err
			}
			lit(":")
			e, err := get(k)
			if err != nil {
				return err
			}
			if err := ev.jsonParts(t, e, parts); err != nil {
				return err
			}
		}
		lit("}")
		return nil
	}
	switch v := v.(type) {
	case *pending:
		*parts = append(*parts, value.Part{Value: v.p, As: value.AsJSON})
		return nil
	case *Handle:
		_, err := ev.written(v)
		return err
	case *starlark.Dict:
		members := map[string]starlark.Value{}
		for _, item := range v.Items() {
			k, ok := item[0].(starlark.String)
			if !ok {
				return fmt.Errorf("json.encode: a map's key is %s, not a text", schema.WithArticle(item[0].Type()))
			}
			members[string(k)] = item[1]
		}
		return object(value.Keys(members), func(k string) (starlark.Value, error) { return members[k], nil })
	case *starlarkstruct.Struct:
		return object(v.AttrNames(), v.Attr)
	case starlark.String:
		return quoted(v)
	case starlark.Iterable:
		lit("[")
		it := v.Iterate()
		defer it.Done()
		var e starlark.Value
		for i := 0; it.Next(&e); i++ {
			if i > 0 {
				lit(",")
			}
			if err := ev.jsonParts(t, e, parts); err != nil {
				return err
			}
		}
		lit("]")
		return nil
	}
	return quoted(v)
}
