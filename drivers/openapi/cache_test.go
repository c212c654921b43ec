package openapi

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestKept: of a large document what is used is kept, and loads as the whole one does; what
// was damaged, and what another document left, is not believed.
func TestKept(t *testing.T) {
	var rest strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&rest,
			`, "other%d": {"type": "object", "properties": {"label": {"type": "string", "description": "one of many that nobody uses"}}}`, i)
	}
	document := []byte(`{"openapi": "3.1.0", "info": {"title": "beacons", "version": "7"}, "paths": {
"/unused": {"get": {"responses": {"200": {"description": ""}}}},
"/sites/{site}/lamps": {"parameters": [{"$ref": "#/components/parameters/site"}], "get": {"responses": {"200": {"$ref": "#/components/responses/lamps"}}},
  "post": {"requestBody": {"$ref": "#/components/requestBodies/lamp"}, "responses": {"201": {"description": ""}}}},
"/sites/{site}/lamps/{id}": {"get": {"responses": {"200": {"$ref": "#/components/responses/lamp"}}}, "delete": {"responses": {"204": {"description": ""}}}}},
"components": {"parameters": {"site": {"name": "site", "in": "path", "required": true, "schema": {"$ref": "#/components/schemas/site"}}},
 "requestBodies": {"lamp": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/lamp"}}}}},
 "responses": {"lamp": {"description": "", "content": {"application/json": {"schema": {"$ref": "#/components/schemas/lamp"}}}}, "lamps": {"description": "", "content": {"application/json": {"schema": {"type": "array", "items": {"$ref": "#/components/schemas/lamp"}}}}}},
 "schemas": {"site": {"type": "string", "maxLength": 9}, "part": {"type": "object", "properties": {"of": {"$ref": "#/components/schemas/part"}}}, "lamp": {"type": "object", "required": ["label"], "properties": {"label": {"type": "string"}, "n": {"type": "integer", "minimum": 2}, "part": {"$ref": "#/components/schemas/part"}, "id": {"type": "string", "readOnly": true}}}` + rest.String() + `}}}`)
	require.Greater(t, len(document), worthKeeping)
	over := [][]byte{[]byte("overlay: 1.0.0\ninfo: {title: t, version: '1'}\nactions:\n- target: " +
		"$.paths['/sites/{site}/lamps']\n  update:\n    x-kasbah: {type: lamp, identify: [label], parents: {site: " +
		"{setting: site}}}\n")}
	settings := func(name string) (string, bool) { return "west", name == "site" }
	folder := t.TempDir()
	whole, err := parse(document, over, true, settings)
	require.NoError(t, err)
	want, err := json.Marshal(whole.catalog)
	require.NoError(t, err)
	kept := func() string {
		all, err := filepath.Glob(filepath.Join(folder, "*.yaml"))
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0]
	}
	same := func() {
		d, err := load(folder, document, over, settings)
		require.NoError(t, err)
		is, err := json.Marshal(d.catalog)
		require.NoError(t, err)
		require.Equal(t, string(want), string(is))
		require.Equal(t, "/sites/west/lamps", d.types["lamp"].list.path)
	}
	same()
	info, err := os.Stat(kept())
	require.NoError(t, err)
	require.Less(t, info.Size(), int64(5000))
	same()
	body, err := os.ReadFile(kept())
	require.NoError(t, err)
	for _, damaged := range []string{"", "openapi: 3.1.0\n", string(body[:len(body)/2]), "\x00"} {
		require.NoError(t, os.WriteFile(kept(), []byte(damaged), 0o600))
		same()
	}
	_, err = load(folder, document, over, func(string) (string, bool) { return "", false })
	require.ErrorContains(t, err, "the driver's settings have no site")
	document = []byte(strings.Replace(string(document), `"minimum": 2`, `"minimum": 3`, 1))
	d, err := load(folder, document, over, settings)
	require.NoError(t, err)
	require.Equal(t, 3.0, *d.catalog.Types["lamp"].Attribute("n").Min)
}
