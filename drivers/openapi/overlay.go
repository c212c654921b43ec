package openapi

import (
	"errors"
	"fmt"
	"strings"

	yaml "github.com/pb33f/go-yaml"
	"github.com/pb33f/jsonpath/pkg/jsonpath"
	"github.com/pb33f/jsonpath/pkg/jsonpath/config"
)

// model reads a document with what overlays add to it.
func model(body []byte, overlays [][]byte) (*api, error) {
	unreadable := func(err error) error {
		return fmt.Errorf("the OpenAPI document cannot be read: %s", strings.TrimPrefix(err.Error(), "yaml: "))
	}
	root, err := readTree(body)
	if err != nil {
		return nil, unreadable(err)
	}
	if err := upgrade(root); err != nil {
		return nil, unreadable(err)
	}
	for _, o := range overlays {
		over, err := readTree(o)
		if err != nil {
			return nil, fmt.Errorf("the Overlay cannot be read: %s", strings.TrimPrefix(err.Error(), "yaml: "))
		}
		if err := lay(over, root); err != nil {
			return nil, fmt.Errorf("the Overlay cannot be applied: %w", err)
		}
	}
	return newAPI(root), nil
}

// lay applies an Overlay (OpenAPI Overlay 1.0 and 1.1) to a document, as data: each action
// in its order to all that its target selects.
func lay(over, root *yaml.Node) error {
	if textOf(at(over, "overlay")) == "" {
		return errors.New("it is not Overlay: it has no overlay, such as 1.0.0")
	}
	actions := at(over, "actions")
	if actions == nil || actions.Kind != yaml.SequenceNode {
		return errors.New("it has no actions")
	}
	for i, a := range actions.Content {
		target := textOf(at(a, "target"))
		if target == "" {
			return fmt.Errorf("action %d has no target", i+1)
		}
		found, err := selected(target, root)
		if err != nil {
			return err
		}
		if len(found) == 0 { // what it means to change is not there
			return fmt.Errorf("%s: nothing in the document is there", target)
		}
		if textOf(at(a, "remove")) == "true" {
			gone := map[*yaml.Node]bool{}
			for _, n := range found {
				gone[n] = true
			}
			without(root, gone)
			continue
		}
		update := at(a, "update")
		if from := textOf(at(a, "copy")); from != "" {
			sources, err := selected(from, root)
			if err != nil {
				return err
			}
			if len(sources) != 1 {
				return fmt.Errorf("%s: copy needs one place, and there are %d", from, len(sources))
			}
			update = sources[0]
		}
		if update == nil {
			return fmt.Errorf("%s: it has neither update nor remove", target)
		}
		for _, n := range found {
			merge(n, update)
		}
	}
	return nil
}

func selected(target string, root *yaml.Node) ([]*yaml.Node, error) {
	path, err := jsonpath.NewPath(target, config.WithPropertyNameExtension(), config.WithLazyContextTracking())
	if err != nil {
		return nil, fmt.Errorf("%s is not JSONPath (RFC 9535)", target)
	}
	return path.Query(&yaml.Node{Kind: yaml.DocumentNode, Content: []*yaml.Node{root}}), nil
}

// merge lays a value over a node: mappings are merged, to a list it is added, and anything
// else it replaces.
func merge(n, update *yaml.Node) {
	switch {
	case n.Kind == yaml.MappingNode && update.Kind == yaml.MappingNode:
		for key, v := range pairsOf(update) {
			if is := at(n, key); is != nil {
				merge(is, v)
			} else {
				n.Content = append(n.Content, scalar(key), copied(v))
			}
		}
	case n.Kind == yaml.SequenceNode && update.Kind == yaml.SequenceNode:
		for _, v := range update.Content {
			n.Content = append(n.Content, copied(v))
		}
	case n.Kind == yaml.SequenceNode:
		n.Content = append(n.Content, copied(update))
	default:
		*n = *copied(update)
	}
}

// copied is a node of its own: what is laid over the copy leaves the original.
func copied(n *yaml.Node) *yaml.Node {
	out := *n
	out.Content = make([]*yaml.Node, len(n.Content))
	for i, c := range n.Content {
		out.Content[i] = copied(c)
	}
	return &out
}

// without takes nodes out of what is below one.
func without(n *yaml.Node, gone map[*yaml.Node]bool) {
	kept := n.Content[:0]
	for i := 0; i < len(n.Content); i++ {
		c := n.Content[i]
		if n.Kind == yaml.MappingNode {
			if i+1 < len(n.Content) && gone[n.Content[i+1]] {
				i++
				continue
			}
			if i+1 < len(n.Content) {
				kept = append(kept, c)
				i++
				c = n.Content[i]
			}
		} else if gone[c] {
			continue
		}
		without(c, gone)
		kept = append(kept, c)
	}
	n.Content = kept
}
