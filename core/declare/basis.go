package declare

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"strings"

	"kasbah/core/estate"
	"kasbah/core/schema"
)

// Basis is the digest of everything that an evaluation is made from, but for the
// files that it reads (see Unmoved) and what other wards publish. The language has no
// clock, no network and no chance: where these three are the same, so is what is
// declared.
func (o Options) Basis() (string, error) {
	type kit struct {
		*estate.Kit
		Fault string
	}
	type input struct {
		Ward, Name, Raw, Source string
		IsRaw                   bool
		Value                   any
	}
	all := struct {
		Estate, Env string
		Wards       []string
		Kinds       map[string]string
		Catalogs    map[string]*schema.Catalog
		Kits        map[string]kit
		Inputs      []input
	}{o.Estate.Digest, o.Env, o.Wards, o.Kinds, o.Catalogs, map[string]kit{}, nil}
	for name, k := range o.Kits {
		one := kit{Kit: k.Kit}
		if k.Err != nil {
			one.Fault = k.Err.Error()
		}
		all.Kits[name] = one
	}
	for _, in := range o.Inputs {
		all.Inputs = append(all.Inputs, input{in.Ward, in.Name, in.Raw, in.Source, in.IsRaw, in.Value})
	}
	body, err := json.Marshal(all)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%x", sha256.Sum256(body)), nil
}

// Unmoved reports whether an evaluation of a ward would read the same as one that read
// these files, given as Ward.Files has them: each is as it was, and the ward has no
// other.
func (o Options) Unmoved(ward string, files map[string]string) (bool, error) {
	root, err := os.OpenRoot(o.Estate.Dir)
	if err != nil {
		return false, err
	}
	defer root.Close()
	return o.unmovedWard(root, ward, files)
}

func (o Options) unmovedWard(root *os.Root, ward string, files map[string]string) (bool, error) {
	list, err := starFiles(o, root, ward)
	if err != nil {
		return false, err
	}
	for _, name := range list {
		if files[name] == "" {
			return false, nil
		}
	}
	return o.unmoved(root, files)
}

// Same reports whether files are as they were when they had these digests.
func (o Options) Same(files map[string]string) (bool, error) {
	root, err := os.OpenRoot(o.Estate.Dir)
	if err != nil {
		return false, err
	}
	defer root.Close()
	return o.unmoved(root, files)
}

func (o Options) unmoved(root *os.Root, files map[string]string) (bool, error) {
	for name, digest := range files {
		src, ok := o.sourceOf(root, name)
		if !ok {
			return false, nil
		}
		body, overlaid := o.Overlay[src.inEstate()]
		if !overlaid {
			var err error
			if body, err = readFile(src, o.Estate.Limits.FileBytes); err != nil {
				return false, err
			}
		}
		if fileDigest(body) != digest {
			return false, nil
		}
	}
	return true, nil
}

// sourceOf is a file by its name in Ward.Files. It is not ok for one of a kit that is not there.
func (o Options) sourceOf(root *os.Root, name string) (src source, ok bool) {
	rest, ofKit := strings.CutPrefix(name, kitPrefix)
	if !ofKit {
		if o.Estate.WardOf(path.Dir(name)) == "" {
			return source{kind: commonFile, name: name, path: name, root: root}, true
		}
		return source{kind: wardFile, name: name, path: name, root: root}, true
	}
	of, inside, _ := strings.Cut(rest, "/")
	k := o.Kits[of]
	if k == nil || k.Root == nil {
		return source{}, false
	}
	return source{kind: kitFile, name: name, path: inside, root: k.Root, kit: k}, true
}

func fileDigest(body []byte) string { return fmt.Sprintf("%x", sha256.Sum256(body)) }
