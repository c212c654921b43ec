package openapi

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"sync"

	"github.com/go-openapi/jsonpointer"
	yaml "github.com/pb33f/go-yaml"
)

// Bounds on a document that is spread over files.
const (
	gatheredFiles = 1000
	gatheredBytes = 64 << 20
)

// filesKey is where a gathered document keeps the files that it refers to, by their
// paths from its folder.
const filesKey = "x-files"

// elsewhere finds documents that may refer to other files: most do not, and are not
// read twice.
var elsewhere = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\$ref["']?\s*:\s*["']?[^#"'\s]`)
})

// Gather reads a document. One that refers to other files (RFC 3986 references, with
// JSON pointers of RFC 6901) is put together with them: they are below x-files, by
// their paths, and what referred to them refers to that. They must lie beside the
// document or below its folder; nothing is fetched. cache is a folder in which it is noted
// of large documents that they refer to none, although they seem to; "" notes nothing.
func Gather(name, cache string) ([]byte, error) {
	root, err := os.OpenRoot(filepath.Dir(name))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	g := &gathering{root: root, main: filepath.Base(name), files: map[string]*yaml.Node{}}
	body, err := g.load(g.main)
	if err != nil || !elsewhere().Match(body) {
		return body, err
	}
	alone := ""
	if cache != "" && len(body) >= worthKeeping {
		alone = filepath.Join(cache, fmt.Sprintf("%x.alone", sha256.Sum256(body)))
		if _, err := os.Stat(alone); err == nil {
			return body, nil
		}
	}
	whole, err := g.parse(g.main, body)
	if err != nil {
		return nil, err
	}
	if len(g.order) == 0 {
		if alone != "" && os.MkdirAll(cache, 0o700) == nil {
			_ = os.WriteFile(alone, nil, 0o600) // where it cannot be noted it is found out again
		}
		return body, nil
	}
	if whole.Kind != yaml.MappingNode {
		return nil, fmt.Errorf("%s is not an OpenAPI document", name)
	}
	files := &yaml.Node{Kind: yaml.MappingNode}
	for _, f := range g.order {
		files.Content = append(files.Content, scalar(f), g.files[f])
	}
	whole.Content = append(whole.Content, scalar(filesKey), files)
	return yaml.Marshal(whole)
}

type gathering struct {
	root  *os.Root
	main  string
	files map[string]*yaml.Node // by path; nil while one is read
	order []string              // of all but the document itself
	bytes int64
}

// load reads a file, within the bound on all of them.
func (g *gathering) load(file string) ([]byte, error) {
	f, err := g.root.Open(filepath.FromSlash(file))
	if err != nil {
		return nil, err
	}
	body, err := io.ReadAll(io.LimitReader(f, gatheredBytes-g.bytes+1))
	if err := errors.Join(err, f.Close()); err != nil {
		return nil, err
	}
	if g.bytes += int64(len(body)); g.bytes > gatheredBytes {
		return nil, fmt.Errorf("%s and what it refers to are larger than %d bytes", g.main, gatheredBytes)
	}
	return body, nil
}

// parse reads what a file holds, and all that it refers to.
func (g *gathering) parse(file string, body []byte) (*yaml.Node, error) {
	root, err := readTree(body)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return root, g.refs(file, root, false)
}

// refs makes every reference below a node one within the whole. names says that the keys of
// the node are names that somebody has given.
func (g *gathering) refs(file string, n *yaml.Node, names bool) error {
	for i, c := range n.Content {
		below := false
		if n.Kind == yaml.MappingNode && i%2 == 1 && !names {
			key := n.Content[i-1].Value
			if key == "$ref" && c.Kind == yaml.ScalarNode {
				to, err := g.ref(file, c.Value)
				if err != nil {
					return fmt.Errorf("%s:%d: %w", file, c.Line, err)
				}
				c.Value = to
				continue
			}
			if isExample(key) {
				continue
			}
			below = holdsNames(key)
		}
		if err := g.refs(file, c, below); err != nil {
			return err
		}
	}
	return nil
}

// ref is a reference of a file within the whole.
func (g *gathering) ref(file, to string) (string, error) {
	u, err := url.Parse(to)
	if err != nil {
		return "", fmt.Errorf("%q is not a reference: %w", to, err)
	}
	if u.Scheme != "" || u.Host != "" {
		return "", fmt.Errorf("it refers to %s, and nothing is fetched: keep a copy below the document's folder, and "+
			"refer to that", to)
	}
	at := file
	if u.Path != "" {
		at = path.Join(path.Dir(file), u.Path)
	}
	if at == g.main {
		return "#" + u.EscapedFragment(), nil
	}
	if _, known := g.files[at]; !known {
		if !filepath.IsLocal(filepath.FromSlash(at)) {
			return "", fmt.Errorf("it refers to %s, which does not lie below the document's folder", to)
		}
		if len(g.files) == gatheredFiles {
			return "", fmt.Errorf("it refers to more than %d files", gatheredFiles)
		}
		g.files[at] = nil
		g.order = append(g.order, at)
		body, err := g.load(at)
		if errors.Is(err, fs.ErrNotExist) {
			return "", fmt.Errorf("it refers to %s, and there is no such file", to)
		}
		if err != nil {
			return "", fmt.Errorf("it refers to %s: %w", to, err)
		}
		if g.files[at], err = g.parse(at, body); err != nil {
			return "", err
		}
	}
	return "#/" + filesKey + "/" + jsonpointer.Escape(at) + u.EscapedFragment(), nil
}
