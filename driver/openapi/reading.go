package openapi

import (
	"errors"
	"fmt"
	"log/slog"

	yaml "github.com/pb33f/go-yaml"
	"github.com/pb33f/libopenapi"
	"github.com/pb33f/libopenapi/datamodel"
	v3 "github.com/pb33f/libopenapi/datamodel/high/v3"
)

// model reads a document with what overlays add to it.
func model(body []byte, overlays [][]byte) (*v3.Document, error) {
	unreadable := func(err error) error { return fmt.Errorf("the OpenAPI document cannot be read: %w", err) }
	config := datamodel.NewDocumentConfiguration()
	config.MergeReferencedProperties = false
	config.SkipCircularReferenceCheck = true      // circles are allowed: what is read of one ends where it closes
	config.Logger = slog.New(slog.DiscardHandler) // what counts of it is in the errors
	body, err := upgraded(body)
	if err != nil {
		return nil, unreadable(err)
	}
	for _, o := range overlays {
		o, err := uncommented(o)
		if err != nil {
			return nil, fmt.Errorf("the Overlay cannot be read: %w", err)
		}
		over, err := libopenapi.NewOverlayDocument(o)
		if err != nil {
			return nil, fmt.Errorf("the Overlay cannot be read: %w", err)
		}
		raw, err := libopenapi.NewDocumentWithConfiguration(body, config)
		if err != nil {
			return nil, unreadable(err)
		}
		applied, err := libopenapi.ApplyOverlay(raw, over)
		if err != nil {
			return nil, fmt.Errorf("the Overlay cannot be applied: %w", err)
		}
		if len(applied.Warnings) > 0 { // what it means to change is not there
			w := applied.Warnings[0]
			return nil, fmt.Errorf("the Overlay cannot be applied: %s: %s", w.Target, w.Message)
		}
		body = applied.Bytes
	}
	raw, err := libopenapi.NewDocumentWithConfiguration(body, config)
	if err != nil {
		return nil, unreadable(err)
	}
	built, err := raw.BuildV3Model()
	if err == nil {
		return &built.Model, nil
	}
	// a $ref in an example or a default is part of that, and leads nowhere
	quiet, changed := withoutExamples(body)
	if !changed {
		return nil, unreadable(err)
	}
	if raw, err = libopenapi.NewDocumentWithConfiguration(quiet, config); err == nil {
		built, err = raw.BuildV3Model()
	}
	if err != nil {
		return nil, unreadable(err)
	}
	return &built.Model, nil
}

// withoutExamples is a document without those examples and defaults that hold a $ref, and
// whether there are any.
func withoutExamples(body []byte) ([]byte, bool) {
	var doc yaml.Node
	if yaml.Unmarshal(body, &doc) != nil {
		return nil, false
	}
	if !dropExamples(&doc, false) {
		return nil, false
	}
	out, err := yaml.Marshal(&doc)
	return out, err == nil
}

// dropExamples takes them out below a node. names says that the keys of the node are names
// that somebody has given, such as those of properties.
func dropExamples(n *yaml.Node, names bool) (changed bool) {
	if n.Kind != yaml.MappingNode {
		for _, c := range n.Content {
			changed = dropExamples(c, false) || changed
		}
		return changed
	}
	kept := n.Content[:0:0]
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, v := n.Content[i], n.Content[i+1]
		if !names && (key.Value == "example" || key.Value == "examples" || key.Value == "default") && refers(v) {
			changed = true
			continue
		}
		given := !names && (key.Value == "properties" || key.Value == "schemas" || key.Value == "patternProperties" || key.Value == "responses" || key.Value == "parameters")
		changed = dropExamples(v, given) || changed
		kept = append(kept, key, v)
	}
	n.Content = kept
	return changed
}

// refers reports whether a $ref stands somewhere in a node.
func refers(n *yaml.Node) bool {
	for i, c := range n.Content {
		if n.Kind == yaml.MappingNode && i%2 == 0 && c.Value == "$ref" || refers(c) {
			return true
		}
	}
	return false
}

// uncommented is YAML without its comments and in one style: an Overlay is laid over its
// document as data, and a comment in the middle of a JSON document would cut it off.
func uncommented(body []byte) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(body, &doc); err != nil {
		return nil, err
	}
	if doc.Kind == 0 {
		return nil, errors.New("it is empty")
	}
	uncomment(&doc)
	return yaml.Marshal(&doc)
}

func uncomment(n *yaml.Node) {
	n.HeadComment, n.LineComment, n.FootComment = "", "", ""
	if n.Kind != yaml.ScalarNode {
		n.Style = 0
	}
	for _, c := range n.Content {
		uncomment(c)
	}
}
