package openapi

import (
	"strings"

	"github.com/go-openapi/jsonpointer"
	yaml "github.com/pb33f/go-yaml"
)

// api is an OpenAPI document. Paths and operations are read when they are asked for.
type api struct {
	*tree
	title, version string
	paths          []string // in the document's order
	items          map[string]*yaml.Node
	shapes         map[string]string // the first path of each shape
	schemas        *yaml.Node
	usedPaths      map[string]bool // that were asked for
}

func newAPI(root *yaml.Node) *api {
	a := &api{tree: &tree{root: root, index: map[*yaml.Node]map[string]*yaml.Node{}, used: map[string]bool{}},
		usedPaths: map[string]bool{}, items: map[string]*yaml.Node{}, shapes: map[string]string{}}
	info := at(root, "info")
	a.title, a.version = textOf(at(info, "title")), textOf(at(info, "version"))
	for path, item := range pairsOf(at(root, "paths")) {
		if !strings.HasPrefix(path, "/") || a.items[path] != nil {
			continue
		}
		a.paths, a.items[path] = append(a.paths, path), item
		if s := shape(path); a.shapes[s] == "" {
			a.shapes[s] = path
		}
	}
	a.schemas = at(at(root, "components"), "schemas")
	return a
}

const componentRef = "#/components/schemas/"

// component is a schema of the document by its name; nil where there is none.
func (a *api) component(name string) *proxy {
	if a.at(a.schemas, name) == nil {
		return nil
	}
	return &proxy{node: &yaml.Node{Kind: yaml.MappingNode, Content: []*yaml.Node{scalar("$ref"),
		scalar(componentRef + jsonpointer.Escape(name))}}}
}

// pathItem is what can be done at a path.
type pathItem struct {
	get, post, put, patch, delete *operation
	parameters                    []parameter
	extension                     *yaml.Node
}

// operation is one of them.
type operation struct {
	doc        *api
	node       *yaml.Node
	parameters []parameter
}

// parameter is one of a path or an operation.
type parameter struct {
	name, in, help string
	required       bool
	schema         *proxy // nil where none is said
	extension      *yaml.Node
	example        *yaml.Node
}

// item finds a path, whatever its parameters are called there; the path is
// given back as the document has it.
func (a *api) item(path string) (*pathItem, string) {
	n := a.items[path]
	if n == nil {
		if p := a.shapes[shape(path)]; p != "" {
			path, n = p, a.items[p]
		}
	}
	if n == nil {
		return nil, strings.Replace(path, "{}", "{id}", 1)
	}
	a.usedPaths[path] = true
	n, err := a.resolved(n)
	if err != nil {
		return nil, path
	}
	return &pathItem{
		get: a.operation(n, "get"), post: a.operation(n, "post"), put: a.operation(n, "put"),
		patch: a.operation(n, "patch"), delete: a.operation(n, "delete"),
		parameters: a.parametersOf(n), extension: at(n, extension),
	}, path
}

func (a *api) operation(item *yaml.Node, method string) *operation {
	n := at(item, method)
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	return &operation{a, n, a.parametersOf(n)}
}

func (a *api) parametersOf(n *yaml.Node) []parameter {
	list := at(n, "parameters")
	if list == nil || list.Kind != yaml.SequenceNode {
		return nil
	}
	var out []parameter
	for _, p := range list.Content {
		p, err := a.resolved(p)
		if err != nil { // what leads nowhere names nothing
			continue
		}
		out = append(out, parameter{
			name: textOf(at(p, "name")), in: textOf(at(p, "in")), help: textOf(at(p, "description")),
			required: textOf(at(p, "required")) == "true",
			schema:   proxyOf(at(p, "schema")), extension: at(p, extension), example: at(p, "example"),
		})
	}
	return out
}

// body is what an operation takes: schemas by media type; nil where it takes none.
func (o *operation) body() *yaml.Node {
	if o == nil {
		return nil
	}
	n, err := o.doc.resolved(at(o.node, "requestBody"))
	if err != nil {
		return nil
	}
	return at(n, "content")
}

// answer is what an operation answers with: schemas by media type; nil where it does not
// say.
func (o *operation) answer() *yaml.Node {
	if o == nil {
		return nil
	}
	responses := at(o.node, "responses")
	for _, code := range []string{"200", "201", "202", "2XX", "default"} {
		n, err := o.doc.resolved(at(responses, code))
		if err == nil && at(n, "content") != nil {
			return at(n, "content")
		}
	}
	return nil
}

// schemaIn is the schema of content in JSON, or in the first form that there is; nil where
// none is said.
func schemaIn(content *yaml.Node) *proxy {
	if p := proxyOf(at(at(content, "application/json"), "schema")); p != nil {
		return p
	}
	for _, media := range pairsOf(content) {
		if p := proxyOf(at(media, "schema")); p != nil {
			return p
		}
	}
	return nil
}
