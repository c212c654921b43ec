package openapi

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
)

const olderDocument = `swagger: "2.0" # as many still are
info: {title: beacons, version: "1"}
host: beacon.example
basePath: /v1
consumes: [application/json]
produces: [application/json]
parameters:
  lamp: {name: id, in: path, required: true, type: string}
responses:
  lamp: {description: one, schema: {$ref: "#/definitions/lamp"}}
securityDefinitions: {key: {type: apiKey, in: header, name: X-Key}}
paths:
  /lamps:
    get:
      parameters: [{name: limit, in: query, type: integer}]
      responses: {"200": {description: all, schema: {type: array, items: {$ref: "#/definitions/lamp"}}}}
    post:
      consumes: [application/vnd.beacon+json]
      parameters: [{name: lamp, in: body, schema: {$ref: "#/definitions/lamp"}}]
      responses: {"201": {$ref: "#/responses/lamp"}}
  /lamps/{id}:
    parameters: [{$ref: "#/parameters/lamp"}]
    get: {responses: {"200": {$ref: "#/responses/lamp"}}}
    patch:
      parameters: [{name: lamp, in: body, schema: {$ref: "#/definitions/lamp"}}]
      responses: {"200": {$ref: "#/responses/lamp"}}
    delete: {responses: {"204": {description: gone}}}
definitions:
  lamp:
    type: object
    required: [label, site]
    x-kasbah: {type: lamp, path: "/lamps", id: id}
    properties:
      label: {type: string, maxLength: 20}
      site: {type: string, x-kasbah: {fixed: true}}
      power: {type: integer, x-nullable: true, minimum: 1}
      id: {type: string, readOnly: true}
`

// TestOlderDocuments: a document of OpenAPI 2.0 drives an API as one of 3.0 does.
func TestOlderDocuments(t *testing.T) {
	things := map[string]value.Map{}
	var sent []string
	api := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		sent = append(sent, r.Method+" "+r.URL.Path+" "+r.Header.Get("Content-Type"))
		switch {
		case r.Method == "POST":
			l := value.Map{}
			require.NoError(t, json.Unmarshal(body, &l))
			l["id"] = "l-1"
			things["/lamps/l-1"] = l
			_ = json.NewEncoder(w).Encode(l)
		case things[r.URL.Path] == nil:
			w.WriteHeader(404)
		case r.Method == "PATCH":
			require.NoError(t, json.Unmarshal(body, &[]*value.Map{new(value.Map)}[0]))
			var change value.Map
			require.NoError(t, json.Unmarshal(body, &change))
			for k, v := range change {
				things[r.URL.Path][k] = v
			}
			_ = json.NewEncoder(w).Encode(things[r.URL.Path])
		case r.Method == "DELETE":
			delete(things, r.URL.Path)
			w.WriteHeader(204)
		default:
			_ = json.NewEncoder(w).Encode(things[r.URL.Path])
		}
	}))
	defer api.Close()
	ctx := context.Background()
	d, err := New(Options{Document: []byte(olderDocument), Base: func(context.Context) (string, error) {
		return api.URL,
			nil
	}})
	require.NoError(t, err)
	defer d.Close()
	c, err := d.Describe(ctx)
	require.NoError(t, err)
	lamp := c.Types["lamp"]
	require.True(t, lamp.Attribute("id").Output)
	require.True(t, lamp.Attribute("site").Fixed)
	require.Equal(t, 20, *lamp.Attribute("label").MaxLength)
	live, err := d.Create(ctx, "lamp", value.Map{"label": "west", "site": "quay"}, "")
	require.NoError(t, err)
	require.Equal(t, "l-1", live.ID)
	live, err = d.Update(ctx, "lamp", live.ID, driver.Change{From: value.Map{"label": "west"},
		To: value.Map{"label": "east"}, All: value.Map{"label": "east", "site": "quay"}}, "", "")
	require.NoError(t, err)
	require.Equal(t, "east", live.Attributes["label"])
	require.NoError(t, d.Delete(ctx, "lamp", live.ID, "", ""))
	require.Equal(t, []string{"POST /lamps application/vnd.beacon+json", "PATCH /lamps/l-1 application/json",
		"DELETE /lamps/l-1 "}, sent)

	for _, body := range []string{`{"swagger": "2.0"}`, `{"swagger": "2.0", "paths": [], "definitions": {"a": null}}`,
		"swagger: '2.0'\npaths: {/a: {get: 1, parameters: 2}}\n", `{"swagger": "1.2", "info": {}}`} {
		_, err := parse([]byte(body), nil, true, nil)
		require.Error(t, err, fmt.Sprint(body)) // and no fall
	}
}
