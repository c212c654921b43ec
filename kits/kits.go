// Package kits opens the kits that an estate names: folders, and tags of git
// repositories, each held against its pin.
package kits

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"kasbah/core/declare"
	"kasbah/core/disk"
	"kasbah/core/estate"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Opener opens the kits of one estate.
type Opener struct {
	Dir  string // the estate's folder
	Pins *estate.Pins
}

// New reads the estate's pins.
func New(dir string) (*Opener, error) {
	body, err := readText(filepath.Join(dir, estate.PinsFile))
	if errors.Is(err, fs.ErrNotExist) {
		return &Opener{Dir: dir, Pins: &estate.Pins{}}, nil
	}
	if err != nil {
		return nil, err
	}
	pins, err := estate.ParsePins(body)
	if err != nil {
		return nil, err
	}
	return &Opener{Dir: dir, Pins: pins}, nil
}

// maxText bounds the files that say what kits are.
const maxText = 1 << 20

func readText(path string) ([]byte, error) {
	return disk.Read(path, maxText)
}

// Open opens kits. One that cannot be used has an Err, so that only those who
// load it are told. Close what is returned with Close.
func (o *Opener) Open(ctx context.Context, sources map[string]estate.KitSource) map[string]*declare.Kit {
	out := make(map[string]*declare.Kit, len(sources))
	for _, name := range value.Keys(sources) {
		k, err := o.open(ctx, sources[name])
		if err != nil {
			k = &declare.Kit{Kit: &estate.Kit{Name: name}, Err: err}
		}
		out[name] = k
	}
	return out
}

// Close closes the folders of kits.
func Close(kits map[string]*declare.Kit) {
	for _, k := range kits {
		if k.Root != nil {
			k.Root.Close()
		}
	}
}

func (o *Opener) open(ctx context.Context, src estate.KitSource) (*declare.Kit, error) {
	if src.InEstate() {
		return o.inEstate(src)
	}
	pin := o.Pins.Of(src.Name, src.String())
	if pin == nil {
		return nil, fmt.Errorf("%s is not pinned: `kasbah kit update %s` shows what it is and pins it", src, src.Name)
	}
	f, err := o.fetch(ctx, src, pin.Digest)
	if err != nil {
		return nil, err
	}
	if f.Digest != pin.Digest {
		return nil, fmt.Errorf("%s pins %s, and %s holds %s: the pin or the kit was altered; `kasbah kit update %s` "+
			"shows what differs",
			estate.PinsFile, short(pin.Digest), src, short(f.Digest), src.Name)
	}
	return Read(src.Name, f.Dir)
}

// inEstate opens a folder of the estate. A link that leads out of the estate
// is refused.
func (o *Opener) inEstate(src estate.KitSource) (*declare.Kit, error) {
	root, err := os.OpenRoot(o.Dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	sub, err := root.OpenRoot(filepath.FromSlash(src.Folder))
	if err != nil {
		return nil, err
	}
	k, err := read(src.Name, src.Folder, sub)
	if k != nil {
		k.Folder = path.Clean(filepath.ToSlash(src.Folder))
	}
	return k, err
}

// Fetched is a kit as its source holds it, pinned or not.
type Fetched struct {
	Dir    string
	Commit string
	Digest string
}

// Fetch gets a kit from its source, without regard to any pin.
func (o *Opener) Fetch(ctx context.Context, src estate.KitSource) (Fetched, error) {
	return o.fetch(ctx, src, "")
}

// fetch gets a kit; one of the wanted digest may come from the cache.
func (o *Opener) fetch(ctx context.Context, src estate.KitSource, digest string) (Fetched, error) {
	if src.Git == "" {
		dir := src.Folder
		if !filepath.IsAbs(dir) {
			dir = filepath.Join(o.Dir, filepath.FromSlash(dir))
		}
		d, err := Digest(dir)
		return Fetched{Dir: dir, Digest: d}, err
	}
	if digest != "" {
		dir := o.cached(src.Name, digest)
		if d, err := Digest(dir); err == nil && d == digest {
			return Fetched{Dir: dir, Digest: d}, nil
		}
	}
	return o.clone(ctx, src)
}

// cached is where a kit of some digest is kept.
func (o *Opener) cached(name, digest string) string {
	return filepath.Join(o.Dir, ".kasbah", "kits", name+"-"+digest[len("sha256:"):][:32])
}

func short(digest string) string { return digest[:min(len(digest), len("sha256:")+12)] }

// Read opens a folder as the kit of some name.
func Read(name, dir string) (*declare.Kit, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	return read(name, dir, root)
}

func read(name, dir string, root *os.Root) (*declare.Kit, error) {
	file := "kit:" + name + "/" + estate.KitFile
	info, err := root.Stat(estate.KitFile)
	if err == nil && info.Size() > maxText {
		return nil, errors.Join(fmt.Errorf("%s is larger than %d bytes", file, maxText), root.Close())
	}
	body, err := root.ReadFile(estate.KitFile)
	if err == nil {
		var k *estate.Kit
		if k, err = estate.ParseKit(file, body); err == nil {
			if name == "" || k.Name == name {
				return &declare.Kit{Kit: k, Root: root}, nil
			}
			err = problem.At(problem.Position{File: file}, "the kit calls itself %q, and kasbah.toml calls it %q",
				k.Name, name)
		}
	} else if errors.Is(err, fs.ErrNotExist) {
		err = fmt.Errorf("%s holds no %s", dir, estate.KitFile)
	}
	return nil, errors.Join(err, root.Close())
}
