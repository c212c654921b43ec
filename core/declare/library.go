package declare

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"path"
	"strings"

	"go.starlark.net/lib/json"
	"go.starlark.net/lib/math"
	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

type builtin = func(*starlark.Thread, *starlark.Builtin, starlark.Tuple, []starlark.Tuple) (starlark.Value, error)

// predeclare fills the names that every file of the ward starts with.
func (ev *evaluator) predeclare() error {
	env := ev.library()
	def := func(name string, f builtin) { env[name] = starlark.NewBuiltin(name, f) }
	def("input", ev.input)
	def("publish", ev.publish)
	def("published", ev.published)
	def("secret", ev.secret)
	def("care", ev.care)
	def("kit", ev.kit)
	folder := ev.o.Estate.Folder(ev.out.Name)
	def("file", ev.fileFrom(source{root: ev.s.root, name: folder, path: folder}))
	env["ward"] = starlark.String(ev.out.Name)
	for name, c := range ev.o.Catalogs {
		if _, taken := env[Identifier(name)]; taken {
			return problem.At(ev.o.Estate.At("drivers."+name), "driver %q has a name that the language uses: call it "+
				"something else", name)
		}
		ev.drivers[name] = ev.newDriver(name, c)
		env[Identifier(name)] = ev.drivers[name]
	}
	ev.names = env
	ix := ev.index
	ix.estate, ix.pattern, ix.names = ev.o.Estate.Name, ev.o.Estate.Names, ev.o.Estate.At("names")
	ix.drivers, ix.known = map[string]bool{}, map[string]bool{}
	for name := range env {
		ix.known[name] = true
	}
	for name := range ev.o.Catalogs {
		ix.drivers[Identifier(name)] = true
	}
	return nil
}

// library are the names that declarations and rules share.
func (ev *evaluator) library() starlark.StringDict {
	env := ev.operators()
	env["struct"] = starlark.NewBuiltin("struct", starlarkstruct.Make)
	env["str"] = starlark.NewBuiltin("str", ev.str)
	env["kind"] = kinds()
	env["env"] = starlark.String(ev.o.Env)
	env["env_part"] = starlark.String(ev.o.Estate.Part(ev.o.Env))
	env["estate"] = starlark.String(ev.o.Estate.Name)
	env["math"] = math.Module
	env["json"] = &starlarkstruct.Module{Name: "json", Members: starlark.StringDict{
		"encode": starlark.NewBuiltin("json.encode", ev.jsonEncode),
		"decode": starlark.NewBuiltin("json.decode", ev.jsonDecode),
		"indent": json.Module.Members["indent"],
	}}
	env["cidr"] = &starlarkstruct.Module{Name: "cidr", Members: starlark.StringDict{
		"slice": starlark.NewBuiltin("cidr.slice", cidrSlice),
		"host":  starlark.NewBuiltin("cidr.host", cidrHost),
	}}
	ev.wrapUniverse(env)
	return env
}

// predeclared are the names that a file starts with. What may not be used in
// it is there as well, and says why.
func (ev *evaluator) predeclared(src source) starlark.StringDict {
	if src.kind == wardFile || src.kind == scriptFile {
		return ev.names
	}
	where := path.Dir(src.path)
	if src.kind == kitFile {
		where = "."
		if known := ev.kits[src.kit.Name]; known != nil {
			return known
		}
	}
	env := maps.Clone(ev.names)
	refuse := func(name, why string) {
		env[name] = starlark.NewBuiltin(name, func(*starlark.Thread, *starlark.Builtin, starlark.Tuple,
			[]starlark.Tuple) (starlark.Value, error) {
			return nil, errors.New(why)
		})
	}
	env["file"] = starlark.NewBuiltin("file", ev.fileFrom(source{root: src.root, name: path.Dir(src.name),
		path: where}))
	if src.kind == commonFile {
		for _, name := range []string{"input", "publish", "published"} {
			refuse(name, fmt.Sprintf("%s is for the files of wards; %s is shared by them", name, src.name))
		}
		return env
	}
	refuse("input", "a kit takes no input from outside: its inputs are the arguments of its functions")
	refuse("publish", "a kit publishes nothing: it gives results back with return")
	refuse("published", "a kit reads no ward: it is handed what it needs as an argument")
	for name := range ev.drivers {
		delete(env, Identifier(name))
	}
	for _, kind := range src.kit.Drivers {
		env[Identifier(kind)] = &kitDriver{ev: ev, name: kind}
	}
	ev.kits[src.kit.Name] = env
	return env
}

// wrapUniverse puts a look at the arguments before the interpreter's own
// functions, so that none misreads a pending value.
func (ev *evaluator) wrapUniverse(env starlark.StringDict) {
	for _, name := range []string{"len", "type", "int", "float", "repr", "hash", "ord", "chr", "list", "tuple", "set",
		"enumerate", "zip",
		"reversed", "dict", "abs", "bool", "min", "max", "sorted", "any", "all", "hasattr", "dir", "bytes"} {
		inner, ok := starlark.Universe[name].(*starlark.Builtin)
		if !ok {
			continue
		}
		env[name] = starlark.NewBuiltin(name, func(t *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
			kwargs []starlark.Tuple) (starlark.Value, error) {
			for _, a := range args {
				if p, ok := a.(*pending); ok {
					return nil, p.cannot(name)
				}
				if s, ok := a.(starlark.String); ok && name == "int" && len(s) > maxBits/2 {
					return nil, fmt.Errorf("int: a text of %d bytes goes over the limit of a whole number", len(s))
				}
				if err := ev.elementsKnown(name, a); err != nil {
					return nil, err
				}
			}
			return starlark.Call(t, inner, args, kwargs)
		})
	}
	env["getattr"] = starlark.NewBuiltin("getattr", func(t *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
		kwargs []starlark.Tuple) (starlark.Value, error) {
		if len(args) >= 2 {
			if name, ok := args[1].(starlark.String); ok && looking[string(name)] {
				return ev.getattr(args[0], string(name))
			}
		}
		return starlark.Call(t, starlark.Universe["getattr"], args, kwargs)
	})
	env["range"] = starlark.NewBuiltin("range", func(t *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
		kwargs []starlark.Tuple) (starlark.Value, error) {
		for _, a := range args {
			if p, ok := a.(*pending); ok {
				return nil, p.cannot("range")
			}
		}
		v, err := starlark.Call(t, starlark.Universe["range"], args, kwargs)
		if err != nil {
			return nil, err
		}
		if n := starlark.Len(v); n > ev.limits.Range {
			return nil, fmt.Errorf("a range of %d goes over the limit of %d", n, ev.limits.Range)
		}
		return v, nil
	})
}

// elementsKnown refuses pending elements where a function would compare them,
// test their truth or show them.
func (ev *evaluator) elementsKnown(name string, v starlark.Value) error {
	switch name {
	case "repr":
		return ev.known(name, v)
	case "min", "max", "sorted", "any", "all":
	default:
		return nil
	}
	seq, ok := v.(starlark.Indexable)
	if !ok {
		return nil
	}
	if _, isText := v.(starlark.String); isText {
		return nil
	}
	for i := 0; i < seq.Len(); i++ {
		if p, ok := seq.Index(i).(*pending); ok {
			return p.cannot(name)
		}
	}
	return nil
}

// undefinedHint reads the resolver's `undefined: NAME`.
func (ev *evaluator) undefinedHint(file, msg string) string {
	_, name, ok := strings.Cut(msg, "undefined: ")
	if !ok {
		return ""
	}
	for driver := range ev.drivers {
		if strings.HasPrefix(file, kitPrefix) && Identifier(driver) == name {
			return fmt.Sprintf("a kit's code knows the kinds of drivers that its kit.toml names: drivers = [%q]",
				ev.o.Kinds[driver])
		}
	}
	var known []string
	for n := range ev.names {
		if !strings.HasPrefix(n, "%") {
			known = append(known, n)
		}
	}
	known = append(known, value.Keys(starlark.Universe)...)
	return nearest.Hint(name, known)
}

// jsonDecode is json.decode with its depth and size held against the limits
// before anything is built.
func (ev *evaluator) jsonDecode(t *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	if len(args) > 0 {
		if p, ok := args[0].(*pending); ok {
			return nil, p.cannot("json.decode")
		}
		if s, ok := args[0].(starlark.String); ok {
			if len(s) > ev.limits.TextBytes {
				return nil, fmt.Errorf("json.decode: the text goes over the limit of %d bytes", ev.limits.TextBytes)
			}
			if depth(string(s)) > ev.limits.Levels {
				return nil, fmt.Errorf("json.decode: the text is nested deeper than %d levels", ev.limits.Levels)
			}
		}
	}
	return starlark.Call(t, json.Module.Members["decode"], args, kwargs)
}

// depth is the deepest nesting of brackets outside strings.
func depth(s string) int {
	deepest, level, quoted := 0, 0, false
	for i := 0; i < len(s); i++ {
		switch c := s[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[' || c == '{':
			level++
			deepest = max(deepest, level)
		case c == ']' || c == '}':
			level--
		}
	}
	return deepest
}

// fileFrom is file(path): a file of the folder dir.
func (ev *evaluator) fileFrom(dir source) builtin {
	return func(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value,
		error) {
		var name string
		if err := starlark.UnpackPositionalArgs("file", args, kwargs, 1, &name); err != nil {
			return nil, err
		}
		clean := path.Clean(name)
		if path.IsAbs(name) || clean == "." || clean == ".." || strings.HasPrefix(clean, "../") {
			return nil, fmt.Errorf("file: %q is not in the folder %s", name, dir.name)
		}
		body, err := ev.read(source{root: dir.root, name: path.Join(dir.name, clean), path: path.Join(dir.path, clean)})
		if err != nil {
			return nil, err
		}
		return starlarkstruct.FromStringDict(starlark.String("file"), starlark.StringDict{
			"text":       starlark.String(body),
			"sha256":     starlark.String(fmt.Sprintf("%x", sha256.Sum256(body))),
			"size":       starlark.MakeInt(len(body)),
			"media_type": starlark.String(mediaType(name, body)),
		}), nil
	}
}

// mediaType goes by the ending for what the web serves, else by the content,
// and never by the machine's own tables: the same file gives the same value
// everywhere.
func mediaType(name string, body []byte) string {
	switch strings.ToLower(path.Ext(name)) {
	case ".html", ".htm":
		return "text/html; charset=utf-8"
	case ".css":
		return "text/css; charset=utf-8"
	case ".js", ".mjs":
		return "text/javascript; charset=utf-8"
	case ".json":
		return "application/json"
	case ".svg":
		return "image/svg+xml"
	case ".md":
		return "text/markdown; charset=utf-8"
	case ".csv":
		return "text/csv; charset=utf-8"
	case ".toml":
		return "application/toml"
	}
	return http.DetectContentType(body)
}

func parseRange(fn, s string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(s)
	if err != nil {
		return p, fmt.Errorf("%s: %q is not an address range such as 10.20.0.0/16", fn, s)
	}
	return p.Masked(), nil
}

// offset is the address n above a.
func offset(a netip.Addr, n uint64, shift uint) (netip.Addr, bool) {
	b := a.As16()
	carry := uint64(0)
	for i := 15; i >= 0; i-- {
		var add uint64
		if at := uint(15-i) * 8; shift < at+8 && at < shift+64 {
			if at >= shift {
				add = (n >> (at - shift)) & 0xff
			} else {
				add = (n << (shift - at)) & 0xff
			}
		}
		sum := uint64(b[i]) + add + carry
		b[i], carry = byte(sum), sum>>8
	}
	out := netip.AddrFrom16(b)
	if a.Is4() {
		out = netip.AddrFrom4([4]byte(b[12:]))
	}
	return out, carry == 0
}

// cidrSlice is cidr.slice(range, prefix, n): the n-th range of that prefix.
func cidrSlice(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value,
	error) {
	var s string
	var bits, n int
	if err := starlark.UnpackArgs("cidr.slice", args, kwargs, "range", &s, "prefix", &bits, "n", &n); err != nil {
		return nil, err
	}
	p, err := parseRange("cidr.slice", s)
	if err != nil {
		return nil, err
	}
	width := p.Addr().BitLen()
	if bits < p.Bits() || bits > width {
		return nil, fmt.Errorf("cidr.slice: a prefix of %d does not lie between %d and %d", bits, p.Bits(), width)
	}
	if room := bits - p.Bits(); n < 0 || room < 62 && n >= 1<<room {
		return nil, fmt.Errorf("cidr.slice: %s has no slice %d of prefix %d", p, n, bits)
	}
	a, ok := offset(p.Addr(), uint64(n), uint(width-bits))
	if !ok {
		return nil, errors.New("cidr.slice: the range ends before that slice")
	}
	return starlark.String(netip.PrefixFrom(a, bits).String()), nil
}

// cidrHost is cidr.host(range, n): the n-th address of a range.
func cidrHost(_ *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple, kwargs []starlark.Tuple) (starlark.Value,
	error) {
	var s string
	var n int
	if err := starlark.UnpackArgs("cidr.host", args, kwargs, "range", &s, "n", &n); err != nil {
		return nil, err
	}
	p, err := parseRange("cidr.host", s)
	if err != nil {
		return nil, err
	}
	a, ok := offset(p.Addr(), uint64(max(0, n)), 0)
	if n < 0 || !ok || !p.Contains(a) {
		return nil, fmt.Errorf("cidr.host: %s has no address %d", p, n)
	}
	return starlark.String(a.String()), nil
}
