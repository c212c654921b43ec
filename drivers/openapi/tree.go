package openapi

import (
	"bytes"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
	yaml "github.com/pb33f/go-yaml"
)

// A document is read as a tree of nodes, and nothing in it is resolved before it is used:
// some have megabytes of which three types count.

// readTree reads YAML or JSON.
func readTree(body []byte) (*yaml.Node, error) {
	if start := bytes.TrimLeft(body, " \t\r\n\ufeff"); len(start) > 0 && (start[0] == '{' || start[0] == '[') {
		if root, err := readJSON(start); err == nil {
			return root, nil
		} // such as with comments in it, which YAML has a like of
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(body, &doc); err != nil {
		return nil, err
	}
	if len(doc.Content) != 1 {
		return nil, errors.New("it is empty")
	}
	return plainTree(doc.Content[0], map[*yaml.Node]bool{})
}

// nodesAtOnce is how many nodes are made with one allocation.
const nodesAtOnce = 256

type jsonTree struct {
	dec   *jsontext.Decoder
	slab  []yaml.Node
	names map[string]string // of properties, each once
}

func (t *jsonTree) node(kind yaml.Kind, tag, v string) *yaml.Node {
	if len(t.slab) == 0 {
		t.slab = make([]yaml.Node, nodesAtOnce)
	}
	n := &t.slab[0]
	t.slab = t.slab[1:]
	n.Kind, n.Tag, n.Value = kind, tag, v
	return n
}

func readJSON(body []byte) (*yaml.Node, error) {
	t := &jsonTree{dec: jsontext.NewDecoder(bytes.NewBuffer(body), jsontext.AllowDuplicateNames(true),
		jsontext.AllowInvalidUTF8(true)), names: map[string]string{}}
	root, err := t.value()
	if err != nil {
		return nil, err
	}
	if t.dec.PeekKind() != 0 {
		return nil, errors.New("there is text after its end")
	}
	return root, nil
}

func (t *jsonTree) value() (*yaml.Node, error) {
	tok, err := t.dec.ReadToken()
	if err != nil {
		return nil, err
	}
	switch tok.Kind() {
	case '{':
		n := t.node(yaml.MappingNode, "!!map", "")
		for t.dec.PeekKind() != '}' {
			name, err := t.dec.ReadToken()
			if err != nil {
				return nil, err
			}
			text := name.String()
			if old, ok := t.names[text]; ok {
				text = old
			} else {
				t.names[text] = text
			}
			v, err := t.value()
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, t.node(yaml.ScalarNode, "!!str", text), v)
		}
		_, err = t.dec.ReadToken()
		return n, err
	case '[':
		n := t.node(yaml.SequenceNode, "!!seq", "")
		for t.dec.PeekKind() != ']' {
			v, err := t.value()
			if err != nil {
				return nil, err
			}
			n.Content = append(n.Content, v)
		}
		_, err = t.dec.ReadToken()
		return n, err
	case '"':
		return t.node(yaml.ScalarNode, "!!str", tok.String()), nil
	case 't', 'f':
		return t.node(yaml.ScalarNode, "!!bool", tok.String()), nil
	case 'n':
		return t.node(yaml.ScalarNode, "!!null", "null"), nil
	}
	number := tok.String()
	if strings.ContainsAny(number, ".eE") {
		return t.node(yaml.ScalarNode, "!!float", number), nil
	}
	return t.node(yaml.ScalarNode, "!!int", number), nil
}

// plainTree puts what an alias stands for in its place, and what `<<` merges into its
// mapping, and takes comments away. within are the nodes above, so that none holds itself.
func plainTree(n *yaml.Node, within map[*yaml.Node]bool) (*yaml.Node, error) {
	if n.Kind == yaml.AliasNode {
		n = n.Alias
		if n == nil || within[n] {
			return nil, errors.New("an alias refers to itself")
		}
	}
	if len(n.Content) == 0 {
		return n, nil
	}
	within[n] = true
	defer delete(within, n)
	for i, c := range n.Content {
		is, err := plainTree(c, within)
		if err != nil {
			return nil, err
		}
		n.Content[i] = is
	}
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Tag != "!!merge" {
			continue
		}
		merged := n.Content[i+1]
		n.Content = slices.Delete(n.Content, i, i+2)
		for j := 0; merged.Kind == yaml.MappingNode && j+1 < len(merged.Content); j += 2 {
			if at(n, merged.Content[j].Value) == nil {
				n.Content = append(n.Content, merged.Content[j], merged.Content[j+1])
			}
		}
		i -= 2
	}
	return n, nil
}

// tree is a document with the means to find things in it.
type tree struct {
	root  *yaml.Node
	index map[*yaml.Node]map[string]*yaml.Node // of mappings that have many keys
	used  map[string]bool                      // references that were followed
}

// manyKeys is how many keys a mapping has that is looked up by an index.
const manyKeys = 24

// at is what a mapping has by a key; nil where there is none.
func (t *tree) at(n *yaml.Node, key string) *yaml.Node {
	if n == nil || len(n.Content) < 2*manyKeys {
		return at(n, key)
	}
	index := t.index[n]
	if index == nil {
		index = make(map[string]*yaml.Node, len(n.Content)/2)
		for k, v := range pairsOf(n) {
			if index[k] == nil {
				index[k] = v
			}
		}
		t.index[n] = index
	}
	return index[key]
}

// maxReferences is how many references may follow each other.
const maxReferences = 50

// to is what a reference leads to (RFC 6901, as a fragment); nil where there is nothing.
func (t *tree) to(ref string) *yaml.Node {
	pointer, ok := strings.CutPrefix(ref, "#")
	if !ok {
		return nil
	}
	n := t.root
	if pointer == "" {
		return n
	}
	for _, part := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
		part = unescape(part)
		switch {
		case n == nil:
			return nil
		case n.Kind == yaml.SequenceNode:
			i, err := strconv.Atoi(part)
			if err != nil || i < 0 || i >= len(n.Content) {
				return nil
			}
			n = n.Content[i]
		default:
			n = t.at(n, part)
		}
		if textOf(t.at(n, "$ref")) != "" {
			var err error
			if n, err = t.resolved(n); err != nil {
				return nil
			}
		}
	}
	return n
}

var unescapes = strings.NewReplacer("~1", "/", "~0", "~", "%7B", "{", "%7D", "}", "%7b", "{", "%7d", "}", "%20", " ",
	"%2F", "/", "%2f", "/", "%25", "%")

func unescape(part string) string {
	if strings.ContainsAny(part, "~%") {
		return unescapes.Replace(part)
	}
	return part
}

// resolved is a node, or what its $ref leads to.
func (t *tree) resolved(n *yaml.Node) (*yaml.Node, error) {
	for range maxReferences {
		ref := textOf(t.at(n, "$ref"))
		if ref == "" {
			return n, nil
		}
		t.used[ref] = true
		to := t.raw(ref)
		if to == nil {
			return nil, fmt.Errorf("it refers to %s, and there is nothing", ref)
		}
		n = to
	}
	return nil, errors.New("its references go round in a circle")
}

// raw is to, without following what is found at last.
func (t *tree) raw(ref string) *yaml.Node {
	at := strings.LastIndexByte(ref, '/')
	if at < 1 {
		return t.to(ref)
	}
	above := t.to(ref[:at])
	if above != nil && above.Kind == yaml.MappingNode {
		return t.at(above, unescape(ref[at+1:]))
	}
	return t.to(ref)
}

// isExample reports whether a key has a value that is only shown: a $ref in it is part of that.
func isExample(key string) bool { return key == "example" || key == "examples" || key == "default" }

// holdsNames reports whether the keys below a key are names that somebody has given.
func holdsNames(key string) bool {
	return key == "properties" || key == "schemas" || key == "definitions" || key == "patternProperties" ||
		key == "responses" || key == "parameters"
}

// pairsOf are a mapping's keys and what they have.
func pairsOf(n *yaml.Node) func(yield func(string, *yaml.Node) bool) {
	return func(yield func(string, *yaml.Node) bool) {
		if n == nil || n.Kind != yaml.MappingNode {
			return
		}
		for i := 0; i+1 < len(n.Content); i += 2 {
			if !yield(n.Content[i].Value, n.Content[i+1]) {
				return
			}
		}
	}
}

func mapping() *yaml.Node { return &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"} }

func scalar(s string) *yaml.Node { return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: s} }

// at is what a mapping has by a key; nil where there is none.
func at(n *yaml.Node, key string) *yaml.Node {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

func children(n *yaml.Node) []*yaml.Node {
	var out []*yaml.Node
	for i := 1; i < len(n.Content); i += 2 {
		out = append(out, n.Content[i])
	}
	return out
}

func set(n *yaml.Node, key string, v *yaml.Node) {
	remove(n, key)
	n.Content = append(n.Content, scalar(key), v)
}

func remove(n *yaml.Node, key string) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			n.Content = slices.Delete(n.Content, i, i+2)
			return
		}
	}
}

func textOf(n *yaml.Node) string {
	if n == nil || n.Kind != yaml.ScalarNode {
		return ""
	}
	return n.Value
}

func textsOf(n *yaml.Node) []string {
	if n == nil || n.Kind != yaml.SequenceNode {
		return nil
	}
	var out []string
	for _, c := range n.Content {
		out = append(out, c.Value)
	}
	return out
}

func boolOf(n *yaml.Node) *bool {
	switch textOf(n) {
	case "true":
		return new(true)
	case "false":
		return new(false)
	}
	return nil
}

func floatOf(n *yaml.Node) *float64 {
	if v, err := strconv.ParseFloat(textOf(n), 64); err == nil {
		return &v
	}
	return nil
}

func intOf(n *yaml.Node) *int64 {
	if v, err := strconv.ParseFloat(textOf(n), 64); err == nil && v >= 0 && v < 1<<53 {
		return new(int64(v))
	}
	return nil
}
