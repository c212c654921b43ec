package openapi

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const spread = `openapi: 3.1.0
info: {title: Bells, version: "1"}
paths:
  /bells:
    $ref: paths/bells.yaml
  /bells/{id}:
    get: {responses: {"200": {$ref: "paths/bells.yaml#/get/responses/200"}}}
    delete: {responses: {"204": {description: gone}}}
components:
  schemas:
    Bell:
      x-kasbah: {type: bell, path: /bells}
      allOf:
        - $ref: 'schemas/bell.yaml#/Bell'
        - properties: {number: {type: integer, default: 3}}
    Tone: {type: string, enum: [low, high]}
`

func folder(t testing.TB, files map[string]string) string {
	dir := t.TempDir()
	for name, body := range files {
		path := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(body), 0o644))
	}
	return dir
}

// TestGather: a document spread over files, which refer to each other in circles,
// describes what it would describe in one.
func TestGather(t *testing.T) {
	dir := folder(t, map[string]string{
		"api.yaml": spread,
		"paths/bells.yaml": "get: {responses: {\"200\": {description: ok, content: {application/json: {schema: " +
			"{type: array, items: {$ref: \"../schemas/bell.yaml#/Bell\"}}}}}}}\n" +
			"post: {requestBody: {content: {application/json: {schema: {$ref: " +
			"'../api.yaml#/components/schemas/Bell'}}}}, responses: {\"201\": {description: made}}}\n",
		"schemas/bell.yaml": "Bell:\n  type: object\n  required: [tone]\n  properties:\n    id: {type: string, " +
			"readOnly: true}\n    tone: {$ref: \"../api.yaml#/components/schemas/Tone\"}\n    place: {$ref: " +
			"\"deep/pla~ce one.json\"}\n    old: {$ref: \"#/Old\"}\n" +
			"Old: {type: object, properties: {before: {$ref: \"bell.yaml#/Old\"}, year: {type: integer}}}\n",
		"schemas/deep/pla~ce one.json": `{"type": "object", "properties": {"light": {"type": "string"}}}`,
	})
	body, err := Gather(filepath.Join(dir, "api.yaml"), "")
	require.NoError(t, err)
	doc, err := parse(body, nil, true, nil)
	require.NoError(t, err)
	bell := doc.catalog.Types["bell"]
	require.Equal(t, []string{"number", "old", "place", "tone"}, bell.AttributeNames())
	require.Equal(t, []any{"low", "high"}, bell.Attribute("tone").OneOf)
	require.True(t, bell.Attribute("tone").Required)
	require.NotNil(t, bell.Attribute("place").Fields)

	// an Overlay reaches what stands in files
	over := "overlay: 1.0.0\ninfo: {title: o, version: '1'}\nactions:\n- target: " +
		"$['x-files']['schemas/bell.yaml'].Bell.properties.tone\n  update: {description: how it sounds}\n"
	doc, err = parse(body, [][]byte{[]byte(over)}, true, nil)
	require.NoError(t, err, string(body))
	require.NotNil(t, doc.catalog.Types["bell"])

	// what refers to nothing else is left as it is, byte by byte
	alone := strings.NewReplacer("$ref: paths/bells.yaml", "{}", "'schemas/bell.yaml#/Bell'",
		"\"#/components/schemas/Tone\"", "paths/bells.yaml#", "#").Replace(spread)
	dir = folder(t, map[string]string{"api.yaml": alone})
	body, err = Gather(filepath.Join(dir, "api.yaml"), "")
	require.NoError(t, err)
	require.Equal(t, alone, string(body))
}

func TestGatherRefuses(t *testing.T) {
	outside := folder(t, map[string]string{"secret.yaml": "word: fog\n"})
	for _, c := range []struct{ to, wants string }{
		{"none.yaml", "api.yaml:1: it refers to none.yaml, and there is no such file"},
		{"../secret.yaml", "which does not lie below the document's folder"},
		{"/etc/passwd", "there is no such file"},
		{"link.yaml", "escapes"},
		{"https://lantern.example/x#/", "nothing is fetched: keep a copy"},
		{"//lantern.example/x", "nothing is fetched"},
		{"%zz.yaml", "is not a reference"},
		{"odd.yaml", "api.yaml:1: odd.yaml: "},
		{"empty.yaml", "empty.yaml: it is empty"},
		{"deep/two.yaml", "api.yaml:1: deep/two.yaml:2: it refers to three.yaml, and there is no such file"},
	} {
		t.Run(c.to, func(t *testing.T) {
			dir := folder(t, map[string]string{"api.yaml": `x: {"$ref": "` + c.to + `"}`, "odd.yaml": ": : :",
				"empty.yaml": "", "deep/two.yaml": "y:\n  z: {$ref: three.yaml}\n"})
			require.NoError(t, os.Symlink(filepath.Join(outside, "secret.yaml"), filepath.Join(dir, "link.yaml")))
			_, err := Gather(filepath.Join(dir, "api.yaml"), "")
			require.ErrorContains(t, err, c.wants, c.to)
			require.NotContains(t, err.Error(), "fog")
		})
	}
	_, err := Gather(filepath.Join(outside, "none.yaml"), "")
	require.ErrorIs(t, err, os.ErrNotExist)
}

// FuzzGather: no file of a document makes it panic or go on for ever.
func FuzzGather(f *testing.F) {
	f.Add(spread, "Bell: {$ref: \"#/Bell\"}")
	f.Add("a: &x {$ref: two.yaml}\nb: *x", "*x")
	f.Fuzz(func(t *testing.T, one, two string) {
		dir := folder(t, map[string]string{"api.yaml": one, "two.yaml": two})
		body, err := Gather(filepath.Join(dir, "api.yaml"), "")
		if err == nil {
			_, _ = parse(body, nil, true, nil)
		}
	})
}
