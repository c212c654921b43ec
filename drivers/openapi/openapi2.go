package openapi

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	yaml "github.com/pb33f/go-yaml"
)

// A document of OpenAPI 2.0 says the same as one of 3.0 in other places. It is turned into
// one of 3.0 before anything else, Overlays included, so that nothing else knows of it.

// upgrade makes a document of OpenAPI 2.0 one of 3.0; others stay as they are. Where its
// paths are (host, basePath) is left out: the driver's settings say that.
func upgrade(root *yaml.Node) error {
	switch version := textOf(at(root, "swagger")); version {
	case "2.0":
		(&upgrading{root: root}).document()
	case "":
		if root.Kind != yaml.MappingNode || at(root, "openapi") == nil {
			return errors.New("it is not an OpenAPI document: it says neither openapi nor swagger")
		}
		if v := textOf(at(root, "openapi")); !strings.HasPrefix(v, "3.") {
			return fmt.Errorf("it is of OpenAPI %s, and 2.0, 3.0, 3.1 and 3.2 are known", v)
		}
	default:
		return fmt.Errorf("it is of Swagger %s, and 2.0 is the oldest that is known", version)
	}
	return nil
}

type upgrading struct{ root *yaml.Node }

func (u *upgrading) document() {
	root := u.root
	consumes, produces := textsOf(at(root, "consumes")), textsOf(at(root, "produces"))
	if paths := at(root, "paths"); paths != nil {
		for _, item := range children(paths) {
			u.item(item, consumes, produces)
		}
	}
	components := mapping()
	for from, to := range map[string]string{"definitions": "schemas", "responses": "responses"} {
		if n := at(root, from); n != nil {
			set(components, to, n)
			if from == "responses" {
				for _, r := range children(n) {
					response(r, produces)
				}
			}
		}
	}
	for _, gone := range []string{"swagger", "definitions", "parameters", "responses", "securityDefinitions",
		"security", "host", "basePath", "schemes", "consumes", "produces"} {
		remove(root, gone)
	}
	root.Content = append([]*yaml.Node{scalar("openapi"), scalar("3.0.3")}, root.Content...)
	root.Content[1].Style = yaml.DoubleQuotedStyle
	set(root, "components", components)
	references(root, false)
}

var methodNames = []string{"get", "put", "post", "delete", "options", "head", "patch"}

func (u *upgrading) item(item *yaml.Node, consumes, produces []string) {
	shared := u.parameters(at(item, "parameters"))
	remove(item, "parameters")
	for i := 0; i+1 < len(item.Content); i += 2 {
		if op := item.Content[i+1]; slices.Contains(methodNames, item.Content[i].Value) {
			u.operation(op, shared, consumes, produces)
		}
	}
}

// parameters are those of a list, with what they refer to in their place.
func (u *upgrading) parameters(list *yaml.Node) []*yaml.Node {
	var out []*yaml.Node
	if list == nil {
		return nil
	}
	for _, p := range list.Content {
		if name, ok := strings.CutPrefix(textOf(at(p, "$ref")), "#/parameters/"); ok {
			if p = at(at(u.root, "parameters"), name); p == nil {
				continue
			}
		}
		out = append(out, p)
	}
	return out
}

func (u *upgrading) operation(op *yaml.Node, shared []*yaml.Node, consumes, produces []string) {
	if own := textsOf(at(op, "consumes")); own != nil {
		consumes = own
	}
	if own := textsOf(at(op, "produces")); own != nil {
		produces = own
	}
	own := u.parameters(at(op, "parameters"))
	for _, p := range shared { // an operation's own goes before one of its path
		if !slices.ContainsFunc(own, func(o *yaml.Node) bool {
			return textOf(at(o, "name")) == textOf(at(p, "name")) && textOf(at(o, "in")) == textOf(at(p, "in"))
		}) {
			own = append(own, p)
		}
	}
	for _, gone := range []string{"consumes", "produces", "parameters", "schemes", "security"} {
		remove(op, gone)
	}
	list := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
	form := mapping()
	for _, p := range own {
		switch textOf(at(p, "in")) {
		case "body":
			body := mapping()
			set(body, "content", content(at(p, "schema"), consumes, "application/json"))
			set(op, "requestBody", body)
		case "formData":
			set(form, textOf(at(p, "name")), parameterSchema(p))
		default:
			list.Content = append(list.Content, newer(p))
		}
	}
	if len(form.Content) > 0 {
		object := mapping()
		set(object, "type", scalar("object"))
		set(object, "properties", form)
		body := mapping()
		set(body, "content", content(object, consumes, "application/x-www-form-urlencoded"))
		set(op, "requestBody", body)
	}
	if len(list.Content) > 0 {
		set(op, "parameters", list)
	}
	if responses := at(op, "responses"); responses != nil {
		for _, r := range children(responses) {
			response(r, produces)
		}
	}
}

func response(r *yaml.Node, produces []string) {
	if s := at(r, "schema"); s != nil {
		remove(r, "schema")
		set(r, "content", content(s, produces, "application/json"))
	}
	for _, gone := range []string{"headers", "examples"} {
		remove(r, gone)
	}
}

// content is a schema in each of some media types.
func content(schema *yaml.Node, media []string, otherwise string) *yaml.Node {
	out := mapping()
	if len(media) == 0 {
		media = []string{otherwise}
	}
	for _, m := range media {
		one := mapping()
		if schema != nil {
			set(one, "schema", schema)
		}
		set(out, m, one)
	}
	return out
}

// ofParameters are the keys of a parameter that are not its schema's.
var ofParameters = []string{"name", "in", "description", "required", "allowEmptyValue"}

func newer(p *yaml.Node) *yaml.Node {
	out := mapping()
	for _, key := range ofParameters {
		if n := at(p, key); n != nil {
			set(out, key, n)
		}
	}
	for i := 0; i+1 < len(p.Content); i += 2 {
		if strings.HasPrefix(p.Content[i].Value, "x-") {
			set(out, p.Content[i].Value, p.Content[i+1])
		}
	}
	set(out, "schema", parameterSchema(p))
	return out
}

func parameterSchema(p *yaml.Node) *yaml.Node {
	out := mapping()
	for i := 0; i+1 < len(p.Content); i += 2 {
		key := p.Content[i].Value
		if !slices.Contains(ofParameters, key) && key != "collectionFormat" && !strings.HasPrefix(key, "x-") {
			set(out, key, p.Content[i+1])
		}
	}
	return out
}

// references lead to where things are now, and what 3.0 writes otherwise in schemas is
// written so. names says that the keys of the node are names that somebody has given.
func references(n *yaml.Node, names bool) {
	if n.Kind != yaml.MappingNode {
		for _, c := range n.Content {
			references(c, false)
		}
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, v := n.Content[i], n.Content[i+1]
		if !names {
			switch {
			case key.Value == "$ref" && v.Kind == yaml.ScalarNode:
				v.Value = strings.Replace(strings.Replace(v.Value, "#/definitions/", "#/components/schemas/", 1),
					"#/responses/", "#/components/responses/", 1)
			case key.Value == "x-nullable":
				key.Value = "nullable"
			case key.Value == "type" && v.Kind == yaml.ScalarNode && v.Value == "file":
				v.Value = "string"
			case isExample(key.Value):
				continue
			}
		}
		references(v, !names && holdsNames(key.Value))
	}
}
