package declare

import (
	"fmt"
	"os"
	"path"
	"strings"

	"kasbah/core/nearest"
	"kasbah/core/value"
)

// source is a file of declarations: what messages call it, where it is read
// from, and what it may do.
type source struct {
	kind sourceKind
	name string // shore/shore.star, common/tags.star, kit:beam/kit.star
	root *os.Root
	path string // below root
	kit  *Kit   // of a kit's file
}

// inEstate is the file below the estate's folder; "" for one of a kit from elsewhere.
func (s source) inEstate() string {
	if s.kit == nil {
		return s.path
	}
	if s.kit.Folder == "" {
		return ""
	}
	return path.Join(s.kit.Folder, s.path)
}

type sourceKind int

const (
	wardFile   sourceKind = iota
	commonFile            // a file of the estate that wards share
	kitFile
	scriptFile // rules
)

// kitPrefix begins the name of what is loaded out of a kit.
const kitPrefix = "kit:"

// module finds the file that a load statement in from names.
func (ev *evaluator) module(from source, module string) (source, error) {
	if name, ok := strings.CutPrefix(module, kitPrefix); ok {
		return ev.kitModule(from, name)
	}
	if !strings.HasSuffix(module, ".star") {
		return source{}, fmt.Errorf("load takes a *.star file or a kit, such as \"kit:beam\", not %q", module)
	}
	if strings.HasPrefix(module, "/") {
		if from.kind == kitFile {
			return source{}, fmt.Errorf("kit %s loads %q, which is not in its folder: hand it what it needs",
				from.kit.Name, module)
		}
		return ev.exists(source{kind: commonFile, name: path.Clean(module)[1:], root: ev.s.root,
			path: path.Clean(module)[1:]})
	}
	to := from
	to.path = path.Join(path.Dir(from.path), module)
	to.name = path.Join(path.Dir(from.name), module)
	switch {
	case from.kind == wardFile && path.Dir(to.path) != ev.o.Estate.Folder(ev.out.Name):
		return source{}, fmt.Errorf("%q is not a file of the ward %s", module, ev.out.Name)
	case to.path == ".." || strings.HasPrefix(to.path, "../"):
		return source{}, fmt.Errorf("%q leads out of %s", module, path.Dir(from.name))
	}
	return ev.exists(to)
}

// exists reports a file that is not there, and one that belongs to a ward but
// is loaded as if it were shared.
func (ev *evaluator) exists(src source) (source, error) {
	if ward := ev.o.Estate.WardOf(path.Dir(src.path)); src.kind == commonFile && ward != "" {
		return source{}, fmt.Errorf("%s belongs to the ward %s: its values are read by published(\"%s\", …)", src.name,
			ward, ward)
	}
	if _, err := src.root.Stat(src.path); err != nil {
		return source{}, fmt.Errorf("%s: %w", src.name, pathError(err))
	}
	return src, nil
}

func (ev *evaluator) kitModule(from source, name string) (source, error) {
	if from.kind == kitFile && !contains(from.kit.Kits, name) {
		return source{}, fmt.Errorf("kit %s loads kit:%s, which its kit.toml does not name under kits", from.kit.Name,
			name)
	}
	k := ev.o.Kits[name]
	switch {
	case k == nil:
		return source{}, withHint(fmt.Errorf("kasbah.toml names no kit %q under [kits]", name),
			nearest.Hint(name, value.Keys(ev.o.Kits)))
	case k.Err != nil:
		return source{}, fmt.Errorf("kit %s: %w", name, k.Err)
	}
	return ev.exists(source{kind: kitFile, name: kitPrefix + name + "/" + kitCode, root: k.Root, path: kitCode, kit: k})
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}
