package declare

import (
	"path"
	"strconv"
	"strings"

	"go.starlark.net/starlark"
	"go.starlark.net/starlarkstruct"

	"kasbah/core/value"
)

// Binding is how another file of the ward can refer to a resource.
type Binding struct {
	File string // of the ward, as load takes it
	Name string // that it binds
	Rest string // code that leads from there to the handle, such as ["sallow"]; "" where the name is the handle
}

// deepest is how many lists, maps and structs are looked into.
const deepest = 3

// bindings are those of the ward's resources, by address. Where several names lead to one, the first counts.
func (ev *evaluator) bindings() map[string]Binding {
	out := map[string]Binding{}
	for _, name := range value.Keys(ev.files) {
		f := ev.files[name]
		if path.Dir(name) != ev.o.Estate.Folder(ev.out.Name) || f.globals == nil {
			continue
		}
		for _, global := range value.Keys(f.globals) {
			if !strings.HasPrefix(global, "_") { // load does not give those
				ev.bind(out, f.globals[global], Binding{File: path.Base(name), Name: global}, deepest)
			}
		}
	}
	return out
}

func (ev *evaluator) bind(out map[string]Binding, v starlark.Value, as Binding, depth int) {
	under := func(v starlark.Value, rest string) {
		below := as
		below.Rest += rest
		ev.bind(out, v, below, depth-1)
	}
	switch v := v.(type) {
	case *Handle:
		if _, known := out[v.Resource.Address]; !known && v.Resource.Ward == ev.out.Name {
			out[v.Resource.Address] = as
		}
	case *starlark.Dict:
		for _, item := range v.Items() {
			if key, ok := starlark.AsString(item[0]); ok && depth > 0 {
				under(item[1], "["+Literal(key)+"]")
			}
		}
	case starlark.Indexable: // lists and tuples; a text has no handle in it
		if _, isText := v.(starlark.String); isText || depth == 0 {
			return
		}
		for i := range v.Len() {
			under(v.Index(i), "["+strconv.Itoa(i)+"]")
		}
	case *starlarkstruct.Struct:
		for _, name := range v.AttrNames() {
			if field, err := v.Attr(name); err == nil && depth > 0 {
				under(field, "."+name)
			}
		}
	}
}
