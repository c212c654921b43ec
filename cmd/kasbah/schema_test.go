package main

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"

	"github.com/owenrumney/go-sarif/v3/pkg/report/v210/sarif"
	"github.com/rogpeppe/go-internal/testscript"
	"github.com/santhosh-tekuri/jsonschema/v6"
)

// matchesSchema holds a file of JSON, or of JSON Lines, against the schema
// that docs/formats has for its format: `schema out.json`. Its first document
// must name a format that is described.
func matchesSchema(ts *testscript.TestScript, neg bool, args []string) {
	if len(args) != 1 {
		ts.Fatalf("usage: schema FILE")
	}
	var body string
	switch args[0] {
	case "stdout":
		body = ts.ReadFile("stdout")
	default:
		body = ts.ReadFile(args[0])
	}
	dec := json.NewDecoder(strings.NewReader(body))
	count := 0
	for dec.More() {
		var raw json.RawMessage
		if err := dec.Decode(&raw); err != nil {
			ts.Fatalf("document %d: %v", count+1, err)
		}
		count++
		if err := validate(raw); (err != nil) != neg {
			ts.Fatalf("document %d: %v\n%s", count, err, raw)
		}
	}
	if count == 0 {
		ts.Fatalf("no document")
	}
}

func validate(raw []byte) error {
	var head struct{ Format string }
	if err := json.Unmarshal(raw, &head); err != nil {
		return err
	}
	name := strings.TrimPrefix(strings.ReplaceAll(head.Format, "/", "-"), "kasbah.") + ".schema.json"
	body, err := os.ReadFile(filepath.Join(schemaDir, name))
	if err != nil {
		return err
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(body))
	if err != nil {
		return err
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource(name, doc); err != nil {
		return err
	}
	schema, err := c.Compile(name)
	if err != nil {
		return err
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
	if err != nil {
		return err
	}
	return schema.Validate(v)
}

// schemaDir is docs/formats, found before scripts change folders.
var schemaDir = func() string {
	dir, err := filepath.Abs("../../docs/formats")
	if err != nil {
		return ""
	}
	return dir
}()

// validSARIF holds a file against the schema of SARIF 2.1.0.
func validSARIF(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) != 1 {
		ts.Fatalf("usage: sarif FILE")
	}
	log, err := sarif.FromBytes([]byte(ts.ReadFile(args[0])))
	ts.Check(err)
	if len(log.Runs) != 1 {
		ts.Fatalf("%d runs", len(log.Runs))
	}
	log.Runs[0].NewlineSequences = []string{"\n"} // which the package would write empty
	ts.Check(log.Validate())
}
