package openapi

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const plainDocument = `{"openapi": "3.1.0", "info": {"title": "beacons", "version": "1"}, "paths": {
"/lamps": {"get": {"responses": {"200": {"description": ""}}}, "post": {"responses": {"201": {"description": ""}}}}, "/lamps/{id}": {"get": {"responses": {"200": {"description": ""}}}}},
"components": {"schemas": {"lamp": {"type": "object", "properties": {"label": {"type": "string"}, "id": {"type": "string", "readOnly": true}}}}}}`

// TestOverlaysAreData: comments, styles and the form of the document do not matter.
func TestOverlaysAreData(t *testing.T) {
	asYAML := "openapi: 3.1.0 # the version\ninfo: {title: beacons, version: '1'}\npaths:\n  # of lamps\n  /lamps: " +
		"{get: {responses: {'200': {description: ''}}}, post: {responses: {'201': {description: ''}}}}\n  " +
		"/lamps/{id}: {get: {responses: {'200': {description: ''}}}}\ncomponents:\n  schemas:\n    lamp: # one\n     " +
		" type: object\n      properties: {label: {type: string}, id: {type: string, readOnly: true}}\n"
	head := "overlay: 1.0.0\ninfo: {title: t, version: '1'}\nactions:\n"
	for _, test := range []struct{ name, over string }{
		{"block", head + "- target: $.components.schemas.lamp\n  update:\n    x-kasbah:\n      type: lamp\n      " +
			"path: /lamps\n      id: id\n"},
		{"comments", "# first\n" + head +
			"# the lamps\n- target: $.components.schemas.lamp\n  # more\n  update:\n    " +
			"# of them\n    x-kasbah: # here\n      type: lamp # and here\n      # between\n      path: /lamps\n     " +
			" id: id\n      # at the end\n# last\n"},
		{"flow", head + "- {target: $.components.schemas.lamp, update: {x-kasbah: {type: lamp, path: /lamps, id: " +
			"id}}} # on a line\n"},
		{"JSON",
			`{"overlay": "1.0.0", "info": {"title": "t", "version": "1"}, "actions": [{"target": "$.components.schemas.lamp", "update": {"x-kasbah": {"type": "lamp", "path": "/lamps", "id": "id"}}}]}`},
	} {
		for _, c := range []struct{ form, document string }{
			{"JSON", plainDocument},
			{"YAML", asYAML},
			{"one line", strings.ReplaceAll(plainDocument, "\n", "")},
		} {
			t.Run(c.form, func(t *testing.T) {
				d, err := parse([]byte(c.document), [][]byte{[]byte(test.over)}, true, nil)
				require.NoError(t, err, "%s over %s", test.name, c.form)
				require.NotNil(t, d.catalog.Types["lamp"], "%s over %s", test.name, c.form)
				require.NotNil(t, d.catalog.Types["lamp"].Attribute("label"))
			})
		}
	}
	_, err := parse([]byte(plainDocument), [][]byte{[]byte("# nothing\n")}, true, nil)
	require.ErrorContains(t, err, "the Overlay cannot be read: it is empty")
	_, err = parse([]byte(plainDocument), [][]byte{[]byte(head + "- target: $.components.schemas.lmap\n  update: " +
		"{x-kasbah: {type: lamp}}\n")}, true, nil)
	require.ErrorContains(t, err, "$.components.schemas.lmap")
}

// TestSchemasOfTheirOwn: a $ref in an example is an example, and a type may stand in
// another one.
func TestSchemasOfTheirOwn(t *testing.T) {
	for _, c := range []struct {
		name string
		c    struct{ properties, schemas string }
	}{
		{"an example with a $ref",
			struct {
				properties,
				schemas string
			}{`, "style": {"type": "object", "example": {"$ref": "#/nowhere"}, "properties": {"colour": {"type": "string"}}}`, ""}},
		{"a default with a $ref",
			struct {
				properties,
				schemas string
			}{`, "style": {"type": "object", "default": {"$ref": "#/nowhere"}, "properties": {"colour": {"type": "string"}}}`, ""}},
		{"a type in a type", struct{ properties, schemas string }{`, "mast": {"$ref": "#/components/schemas/mast"}`,
			`, "mast": {"type": "object", "x-kasbah": {"type": "mast", "path": "/masts", "id": "id"}, "properties": {"id": {"type": "string", "readOnly": true}, "height": {"type": "integer"}}}`}},
		{"a component in itself",
			struct{ properties, schemas string }{`, "beside": {"$ref": "#/components/schemas/lamp"}`, ""}},
		{"required in itself", struct {
			properties,
			schemas string
		}{`, "parts": {"type": "array", "items": {"$ref": "#/components/schemas/part"}}`,
			`, "part": {"type": "object", "required": ["of"], "properties": {"of": {"$ref": "#/components/schemas/part"}, "n": {"type": "integer"}}}`}},
	} {
		t.Run(c.name, func(t *testing.T) {
			document := strings.Replace(plainDocument, `"label": {"type": "string"}`,
				`"label": {"type": "string"}`+c.c.properties, 1)
			document = strings.Replace(document, `"type": "object", "properties": {"label"`,
				`"type": "object", "x-kasbah": {"type": "lamp", "path": "/lamps", "id": "id"}, "properties": {"label"`,
				1)
			document = strings.Replace(document, `"readOnly": true}}}}}`, `"readOnly": true}}}`+c.c.schemas+`}}`, 1)
			document = strings.Replace(document, `"paths": {`,
				`"paths": {"/masts": {"get": {"responses": {"200": {"description": ""}}}, "post": {"responses": {"201": {"description": ""}}}}, "/masts/{id}": {"get": {"responses": {"200": {"description": ""}}}},`, 1)
			d, err := parse([]byte(document), nil, true, nil)
			require.NoError(t, err)
			require.NotNil(t, d.catalog.Types["lamp"].Attribute("label"))
			require.Equal(t, strings.Contains(c.c.schemas, `"type": "mast"`), d.catalog.Types["mast"] != nil)
		})
	}
}

// TestIDsThatAreDecided: a document that does not say that its API decides an id asks for
// none, where things are made by POST; where they are made by PUT it is required.
func TestIDsThatAreDecided(t *testing.T) {
	document := strings.Replace(plainDocument, `"id": {"type": "string", "readOnly": true}`, `"id": {"type": "string"}`,
		1)
	head := "overlay: 1.0.0\ninfo: {title: t, version: '1'}\nactions:\n- target: $.components.schemas.lamp\n  " +
		"update:\n    x-kasbah: {type: lamp, path: /lamps, id: id"
	for _, c := range []struct {
		create   string
		required bool
	}{
		{"", false},
		{", create: put", true},
	} {
		t.Run(c.create, func(t *testing.T) {
			d, err := parse([]byte(document), [][]byte{[]byte(head + c.create + "}\n")}, true, nil)
			require.NoError(t, err)
			require.Equal(t, c.required, d.catalog.Types["lamp"].Attribute("id").Required)
			_, faults := d.catalog.Types["lamp"].Check(map[string]any{"label": "west"})
			require.Equal(t, c.required, len(faults) > 0)
		})
	}
}
