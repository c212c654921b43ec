package openapi

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/go-openapi/jsonpointer"
	yaml "github.com/pb33f/go-yaml"

	"kasbah/core/disk"
)

// A large document of which a few types are used is kept without the rest, by the digest of
// what it was made from, so that later runs read no more than that. What is kept is a
// document like any other; where it does not load, the whole one is read again.

const (
	worthKeeping = 256 << 10 // bytes of a document
	keptFor      = 90 * 24 * time.Hour
)

// load is parse, by way of what is kept in a folder; "" keeps nothing.
func load(folder string, body []byte, overlays [][]byte, settings func(string) (string, bool)) (*document, error) {
	if folder == "" || len(body) < worthKeeping {
		return parse(body, overlays, true, settings)
	}
	file := filepath.Join(folder, keptName(body, overlays))
	if kept, err := os.ReadFile(file); err == nil {
		if d, err := parse(kept, nil, true, settings); err == nil {
			return d, nil
		}
	}
	d, err := parse(body, overlays, true, settings)
	if err != nil {
		return nil, err
	}
	keep(file, d)
	return d, nil
}

// keptName is made from all that decides what is kept: the document, its overlays, and the
// program.
func keptName(body []byte, overlays [][]byte) string {
	sum := sha256.New()
	program := thisProgram()
	fmt.Fprintf(sum, "%s\n%x\n", program, sha256.Sum256(body))
	for _, o := range overlays {
		fmt.Fprintf(sum, "%x\n", sha256.Sum256(o))
	}
	return hex.EncodeToString(sum.Sum(nil)) + ".yaml"
}

// thisProgram tells a build from others: by the commit that it is made from, and where that
// does not tell, by its file.
func thisProgram() string {
	program, sure := "", false
	if b, ok := debug.ReadBuildInfo(); ok {
		program = b.Main.Version
		for _, s := range b.Settings {
			if strings.HasPrefix(s.Key, "vcs.") {
				program += " " + s.Value
			}
			sure = sure || s.Key == "vcs.modified" && s.Value == "false"
		}
	}
	if sure {
		return program
	}
	file, err := os.Executable()
	if err != nil {
		return program
	}
	info, err := os.Stat(file)
	if err != nil {
		return program
	}
	return fmt.Sprintf("%s %d %d", program, info.Size(), info.ModTime().UnixNano())
}

// keep writes what a document has been asked for. Whether that succeeds does not matter.
func keep(file string, d *document) {
	root, err := d.doc.asked()
	if err != nil {
		return
	}
	body, err := yaml.Marshal(root)
	if err != nil || os.MkdirAll(filepath.Dir(file), 0o700) != nil {
		return
	}
	forget(filepath.Dir(file))
	_ = disk.ReplacePrivate(file, body)
}

// forget deletes what nobody has made for a long time.
func forget(folder string) {
	files, err := os.ReadDir(folder)
	if err != nil {
		return
	}
	for _, f := range files {
		if info, err := f.Info(); err == nil && time.Since(info.ModTime()) > keptFor {
			_ = os.Remove(filepath.Join(folder, f.Name()))
		}
	}
}

// asked is a document of what this one has been asked for so far.
func (doc *api) asked() (*yaml.Node, error) {
	root := mapping()
	for _, key := range []string{"openapi", "info", extension} {
		if n := at(doc.root, key); n != nil {
			set(root, key, n)
		}
	}
	paths := mapping()
	for _, path := range doc.paths { // in their order
		if doc.usedPaths[path] {
			set(paths, path, doc.items[path])
		}
	}
	set(root, "paths", paths)
	schemas := mapping()
	for name, n := range pairsOf(doc.schemas) {
		if doc.used[componentRef+jsonpointer.Escape(name)] || at(n, extension) != nil {
			schemas.Content = append(schemas.Content, scalar(name), n)
		}
	}
	set(root, "components", mapped("schemas", schemas))
	var others []string
	for ref := range doc.used {
		if name, ok := strings.CutPrefix(ref, componentRef); !ok || strings.Contains(name, "/") {
			others = append(others, ref)
		}
	}
	slices.Sort(others) // what holds another one first
	for _, ref := range others {
		if err := doc.place(root, ref); err != nil {
			return nil, err
		}
	}
	return root, nil
}

// place puts what a reference leads to where it leads.
func (doc *api) place(root *yaml.Node, ref string) error {
	parts := strings.Split(strings.TrimPrefix(ref, "#/"), "/")
	from, to := doc.root, root
	for i, part := range parts {
		part = unescape(part)
		from = doc.at(from, part)
		if from == nil || from.Kind == yaml.SequenceNode && i+1 < len(parts) {
			return fmt.Errorf("%s leads through something else than names", ref)
		}
		there := at(to, part)
		switch {
		case there == from:
			return nil // with all that is in it
		case i+1 == len(parts):
			set(to, part, from)
			return nil
		case there == nil:
			there = mapping()
			set(to, part, there)
		}
		to = there
	}
	return nil
}
