package estate

import (
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// HasWard reports whether the estate has a ward of that name.
func (e *Estate) HasWard(ward string) bool { return e.folders[ward] != "" }

// Folder is where the files of a ward are, from the estate's folder, with slashes.
func (e *Estate) Folder(ward string) string { return e.folders[ward] }

// WardOf is the ward whose files are in a folder, given from the estate's folder; "" for none.
func (e *Estate) WardOf(folder string) string {
	if name := WardName(folder); e.folders[name] == folder {
		return name
	}
	return ""
}

// WardName is the name of the ward whose files are in a folder: its path, with - for /.
func WardName(folder string) string { return strings.ReplaceAll(folder, "/", "-") }

// wards reads the list of wards: names, paths of folders, patterns of them, and patterns with ! before them of
// what the others are not to match.
func (r *reader) wards(v any, e *Estate) {
	e.folders = map[string]string{}
	list, ok := v.([]any)
	if !ok || len(list) == 0 {
		r.wrong("wards", "wards must list at least one folder, such as wards = [\"shore\"]")
		return
	}
	var but []string
	for _, w := range list {
		if s, isText := w.(string); isText && strings.HasPrefix(s, "!") {
			but = append(but, s[1:])
		}
	}
	for _, w := range list {
		s, _ := w.(string)
		switch {
		case strings.HasPrefix(s, "!"):
		case strings.Contains(s, "*"):
			r.wardsLike(s, but, e)
		case strings.Contains(s, "/"):
			r.ward(s, e, false)
		default:
			if r.name("wards", w); IsName(s) {
				r.ward(s, e, false)
			}
		}
	}
}

// ward adds one. Several patterns may match the same folder.
func (r *reader) ward(folder string, e *Estate, matched bool) {
	name := WardName(folder)
	switch other := e.folders[name]; {
	case !IsName(name) || path.Clean(folder) != folder:
		r.wrong("wards", "the folder %q makes the name %q, which is not a valid one for a ward: use a-z, 0-9 and -, starting with a "+
			"letter, with / between folders", folder, name)
	case other == folder && matched:
	case other == folder:
		r.wrong("wards", "ward %q is listed twice", folder)
	case other != "":
		r.wrong("wards", "the folders %s and %s would both be the ward %s", other, folder, name).Hint = "rename one of them"
	default:
		e.folders[name] = folder
		e.Wards = append(e.Wards, name)
	}
}

// wardsLike adds the folders that a pattern matches and that hold declarations, in byte order.
func (r *reader) wardsLike(pattern string, but []string, e *Estate) {
	parts := strings.Split(pattern, "/")
	for _, part := range append(slices.Clone(parts), but...) {
		if _, err := path.Match(part, ""); err != nil || part == "" || part == ".." {
			r.wrong("wards", "%q is not a valid pattern of folders, such as \"lights/*\"", pattern)
			return
		}
	}
	var found []string
	left := func(folder string) bool {
		return slices.ContainsFunc(but, func(p string) bool {
			return matches(strings.Split(p, "/"),
				strings.Split(folder, "/"))
		})
	}
	if err := walk(os.DirFS(e.Dir), ".", parts, func(folder string) { found = append(found, folder) }, left); err != nil {
		r.wrong("wards", "the folders that %q matches cannot be read: %v", pattern, err)
		return
	}
	slices.Sort(found)
	found = slices.Compact(found)
	if len(found) == 0 {
		r.wrong("wards", "%q matches no folder with *.star files", pattern)
	}
	for _, folder := range found {
		r.ward(folder, e, true)
	}
}

// walk finds the folders below one that match the parts of a pattern; ** is for folders at any depth. Folders
// whose names begin with a dot, kits and the house rules are not looked into.
func walk(in fs.FS, folder string, parts []string, take func(folder string), left func(folder string) bool) error {
	entries, err := fs.ReadDir(in, folder)
	if err != nil {
		return err
	}
	holds := func(fits func(name string) bool) bool {
		return slices.ContainsFunc(entries, func(d fs.DirEntry) bool { return !d.IsDir() && fits(d.Name()) })
	}
	if folder != "." && (left(folder) || holds(func(name string) bool { return name == KitFile })) || folder == "rules" {
		return nil
	}
	any := len(parts) > 0 && parts[0] == "**"
	if len(parts) == 0 || any && len(parts) == 1 && folder != "." {
		if holds(func(name string) bool { return strings.HasSuffix(name, ".star") }) {
			take(folder)
		}
		if len(parts) == 0 {
			return nil
		}
	}
	for _, d := range entries {
		if !d.IsDir() || strings.HasPrefix(d.Name(), ".") {
			continue
		}
		below := path.Join(folder, d.Name())
		if any {
			if err := walk(in, below, parts, take, left); err != nil {
				return err
			}
		}
		rest := parts
		if any && len(parts) > 1 { // ** stands for no folder at all, too
			rest = parts[1:]
		} else if any {
			continue
		}
		if ok, _ := path.Match(rest[0], d.Name()); ok { // the pattern was checked before
			if err := walk(in, below, rest[1:], take, left); err != nil {
				return err
			}
		}
	}
	return nil
}

// matches reports whether the parts of a path, or the first ones, match those of a pattern.
func matches(pattern, parts []string) bool {
	switch {
	case len(pattern) == 0:
		return true
	case len(parts) == 0:
		return false
	case pattern[0] == "**":
		return matches(pattern[1:], parts) || matches(pattern, parts[1:])
	}
	ok, err := path.Match(pattern[0], parts[0])
	return ok && err == nil && matches(pattern[1:], parts[1:])
}

// ChosenWards are the wards that names, folders and patterns choose, in the estate's order, all for none. none
// is one of them that chooses nothing; "" where each does.
func (e *Estate) ChosenWards(names []string) (wards []string, none string) {
	if len(names) == 0 {
		return e.Wards, ""
	}
	chosen := map[string]bool{}
	for _, n := range names {
		n = strings.TrimSuffix(filepath.ToSlash(n), "/")
		some := false
		for _, w := range e.Wards {
			if ok, err := path.Match(n, w); ok && err == nil || n == e.folders[w] {
				chosen[w], some = true, true
			}
		}
		if !some {
			return nil, n
		}
	}
	return slices.DeleteFunc(slices.Clone(e.Wards), func(w string) bool { return !chosen[w] }), ""
}
