package medina

import (
	"encoding/json"
	"strings"
	"sync"

	"kasbah/core/schema"
)

// Version is that of Medina's API.
const Version = "1.0"

type object = map[string]any

// Document is Medina's description of itself: OpenAPI 3.1 with the x-kasbah
// extensions. It is the same for every Medina of this version, and not to be changed.
func Document() []byte { return document() }

var document = sync.OnceValue(describe)

func describe() []byte {
	paths, schemas := object{}, object{}
	for _, k := range kinds() {
		title := strings.ToUpper(k.Name[:1]) + k.Name[1:]
		schemas[title] = component(k)
		ref := object{"$ref": "#/components/schemas/" + title}
		one := object{"application/json": object{"schema": ref}}
		paths["/"+k.plural] = object{
			"get": object{"summary": "list, a page at a time", "parameters": []any{query("limit"), query("after"),
				query("name"), query("key")},
				"responses": object{"200": object{"description": "a page; a Link header leads to the next",
					"content": object{"application/json": object{"schema": object{
						"type": "object", "properties": object{"items": object{"type": "array", "items": ref}}}}}}}},
			"post": object{"summary": "make one", "requestBody": object{"content": one}, "responses": object{
				"201":     object{"description": "made", "content": one},
				"202":     object{"description": "being made; Location leads to the operation"},
				"default": problemAnswer()}},
		}
		id := object{"name": "id", "in": "path", "required": true, "schema": object{"type": "string"}}
		paths["/"+k.plural+"/{id}"] = object{
			"parameters": []any{id},
			"get": object{"summary": "read", "responses": object{"200": object{"description": "it",
				"content": one}, "default": problemAnswer()}},
			"patch": object{"summary": "edit by a merge patch (RFC 7396)",
				"requestBody": object{"content": object{"application/merge-patch+json": object{"schema": ref}}},
				"responses": object{"200": object{"description": "edited", "content": one},
					"202": object{"description": "being edited"}, "default": problemAnswer()}},
			"delete": object{"summary": "delete", "responses": object{"204": object{"description": "gone"},
				"202": object{"description": "going"}, "default": problemAnswer()}},
		}
	}
	for _, k := range kinds() {
		if k.Copies {
			paths["/"+k.plural+"/{id}/copies"] = object{"post": object{"summary": "make a copy of it, with its data",
				"parameters": []any{object{"name": "id", "in": "path", "required": true,
					"schema": object{"type": "string"}}}, "responses": object{
					"201":     object{"description": "made"},
					"202":     object{"description": "being made; Location leads to the operation"},
					"default": problemAnswer()}}}
		}
	}
	paths["/events"] = object{"get": object{"summary": "the change feed: who changed what, when",
		"parameters": []any{query("limit"), query("after"), query("id"), query("order")},
		"responses":  object{"200": object{"description": "a page of changes, oldest first, or newest first with order=newest"}}}}
	feed := object{"path": "/events", "query": object{"order": "newest"}, "order": "newest"}
	doc := object{
		"openapi":    "3.1.0",
		"info":       object{"title": "Medina", "version": Version, "description": "A simulated cloud."},
		"x-kasbah":   object{"changes": feed, "rehearse": object{"path": "/rehearsals"}},
		"paths":      paths,
		"components": object{"schemas": schemas},
	}
	body, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		panic(err) // the table is part of the program and holds nothing JSON cannot write
	}
	return append(body, '\n')
}

func query(name string) object {
	return object{"name": name, "in": "query", "schema": object{"type": "string"}}
}

func problemAnswer() object {
	return object{"description": "a problem (RFC 9457)",
		"content": object{problemType: object{"schema": object{"type": "object"}}}}
}

func component(k *kind) object {
	x := object{"type": k.Name, "path": "/" + k.plural, "id": k.ID, "tag": "revision", "keys": keyMemory.String(),
		"locate": "key"}
	for name, on := range map[string]bool{"holds-data": k.HoldsData, "unique-name": k.UniqueName,
		"drop-first": k.DropFirst} {
		if on {
			x[name] = true
		}
	}
	if k.Copies {
		x["copies"] = "copies"
	}
	if len(k.Identify) > 0 {
		x["identify"] = k.Identify
	}
	if p := k.Price; p != nil {
		price := object{"month": p.Month}
		if p.By != nil {
			price["by"] = p.By
		}
		if p.Per != nil {
			price["per"] = p.Per
		}
		x["price"] = price
	}
	out := object{"type": "object", "description": k.Help, "x-kasbah": x}
	var required, order []string
	properties := object{}
	for _, a := range k.Attributes {
		if a.Name != "revision" {
			order = append(order, a.Name)
		}
		properties[a.Name] = property(a)
		if a.Required {
			required = append(required, a.Name)
		}
	}
	x["order"] = order
	out["properties"] = properties
	if required != nil {
		out["required"] = required
	}
	return out
}

// property writes an attribute as a JSON Schema with the extensions.
func property(a *schema.Attribute) object {
	out := object{}
	switch a.Kind {
	case schema.Text:
		out["type"] = "string"
	case schema.Int:
		out["type"] = "integer"
	case schema.Number:
		out["type"] = "number"
	case schema.Bool:
		out["type"] = "boolean"
	case schema.List:
		out["type"], out["items"] = "array", property(a.Elem)
	case schema.MapOf:
		out["type"], out["additionalProperties"] = "object", property(a.Elem)
	case schema.Record:
		fields := object{}
		var required []string
		for _, f := range a.Fields {
			fields[f.Name] = property(f)
			if f.Required {
				required = append(required, f.Name)
			}
		}
		out["type"], out["properties"], out["required"] = "object", fields, required
	}
	set := func(key string, on bool, v any) {
		if on {
			out[key] = v
		}
	}
	set("description", a.Help != "", a.Help)
	set("readOnly", a.Output, true)
	set("writeOnly", a.Secret, true)
	set("enum", len(a.OneOf) > 0, a.OneOf)
	set("minimum", a.Min != nil, a.Min)
	set("maximum", a.Max != nil, a.Max)
	set("pattern", a.Pattern != "", a.Pattern)
	set("format", a.Format != "", a.Format)
	set("default", a.HasDefault, a.Default)
	lengths := map[schema.Kind][2]string{schema.Text: {"minLength", "maxLength"}, schema.List: {"minItems", "maxItems"},
		schema.MapOf: {"minProperties", "maxProperties"}}
	if names, ok := lengths[a.Kind]; ok {
		set(names[0], a.MinLength != nil, a.MinLength)
		set(names[1], a.MaxLength != nil, a.MaxLength)
	}
	x := object{}
	if a.Fixed {
		x["fixed"] = true
	}
	if a.Security {
		x["security"] = true
	}
	if a.Moves {
		x["moves"] = true
	}
	if a.Refers != "" {
		x["refers"] = a.Refers
	}
	if a.HasDefault {
		x["default-on-absence"] = true
	}
	set("x-kasbah", len(x) > 0, x)
	return out
}
