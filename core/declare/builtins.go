package declare

import (
	"strings"

	"kasbah/core/schema"
)

// builtinCall is how a built-in function is called; nil for one that nothing is said of here.
func builtinCall(name string) *Signature {
	if strings.HasPrefix(name, "kind.") && builtins[name] == nil {
		name = "kind.text"
	}
	if s := builtins[name]; s != nil {
		out := *s
		out.Name = name
		return &out
	}
	return nil
}

// Builtin is how a built-in function is called; nil for one that nothing is said of.
func Builtin(name string) *Signature { return builtinCall(name) }

// What some parameters of the language's own functions want, which no schema knows.
const (
	careKind     schema.Kind = "care"
	kindKind     schema.Kind = "kind"
	functionKind schema.Kind = "function"
)

func ofKind(name string, kind schema.Kind, help string) Param {
	return Param{Name: name, Help: help, Attr: &schema.Attribute{Name: name, Kind: kind}}
}

func textParam(name, help string, values ...any) Param {
	return Param{Name: name, Help: help, Attr: &schema.Attribute{Name: name, Kind: schema.Text, OneOf: values}}
}

func required(p Param) Param { p.Required = true; return p }

func boolParam(name, help string) Param {
	return Param{Name: name, Help: help, Attr: &schema.Attribute{Name: name, Kind: schema.Bool}, Default: "False"}
}

func anyParam(name, help string) Param { return Param{Name: name, Help: help} }

func intParam(name, help string) Param {
	return Param{Name: name, Help: help, Attr: &schema.Attribute{Name: name, Kind: schema.Int}}
}

// builtins are the language's own functions.
var builtins = map[string]*Signature{
	"input": {Help: "takes a value from outside", Params: []Param{
		required(textParam("name", "as kasbah.toml gives it")), ofKind("kind", kindKind, "such as kind.text"),
		anyParam("default", "where nothing is given"), textParam("help", "what it is for"),
		boolParam("secret", "it is never shown"), anyParam("one_of", "the values that it may have"),
		anyParam("min", "its least value"), anyParam("max", "its greatest value"),
		intParam("min_length", "its least length"), intParam("max_length", "its greatest length"),
		textParam("matches", "a regular expression")}},
	"publish": {Help: "offers a value to other wards", Params: []Param{required(textParam("name", "by which others read it")),
		required(anyParam("value", "what is offered")), textParam("help", "what it is for"),
		boolParam("secret", "it is made from a secret")}},
	"published": {Help: "reads what another ward publishes", Params: []Param{required(textParam("ward", "which publishes it")),
		required(textParam("name", "of the value"))}},
	"secret": {Help: "refers to a secret by its name", Params: []Param{required(textParam("name", "of the secret"))}},
	"care": {Help: "says how a resource is to be treated", Params: []Param{
		anyParam("after", "handles and addresses that must be there first"), boolParam("guard", "it is not removed"),
		anyParam("leave", "paths of attributes that others may change"),
		textParam("swap", "in which order it is replaced", "create-first", "drop-first"),
		anyParam("excuse", "rules that it may break: {\"RULE\": \"reason, until DATE\"}"),
		textParam("timeout", "for one answer of the cloud, such as \"90s\""),
		textParam("at_drop", "what becomes of it once it is not declared", "remove", schema.LetGo, schema.CopyFirst),
		textParam("renamed_from", "its former address")}},
	"kit": {Help: "makes a function a kit whose inputs are checked", Params: []Param{
		required(ofKind("function", functionKind, "what declares the resources")), anyParam("inputs", "names and their kinds"),
		textParam("help", "what an instance is for")}},
	"file": {Help: "reads a file beside this one: text, sha256, size and media_type", Params: []Param{
		required(textParam("path", "below the folder of this file"))}},
	"struct": {Help: "puts values together under names", Rest: true},
	"cidr.slice": {Help: "the n-th range of that prefix inside a range", Params: []Param{
		required(textParam("range", "such as 10.20.0.0/16")), required(intParam("prefix", "bits of the slice's prefix")),
		required(intParam("n", "which slice, from 0"))}},
	"cidr.host": {Help: "the n-th address of a range", Params: []Param{required(textParam("range", "such as 10.20.0.0/16")),
		required(intParam("n", "which address, from 0"))}},
	"json.encode": {Help: "a value as JSON", Params: []Param{required(anyParam("x", "the value"))}},
	"json.decode": {Help: "the value that a JSON text holds", Params: []Param{required(anyParam("x", "the text"))}},
	"kind.text": {Help: "narrows a kind", Params: []Param{anyParam("default", "where nothing is given"),
		textParam("help", "what it is for"), anyParam("one_of", "the values that it may have"),
		anyParam("min", "its least value"), anyParam("max", "its greatest value"),
		intParam("min_length", "its least length"), intParam("max_length", "its greatest length"),
		textParam("matches", "a regular expression")}},
	"rule": {Help: "states a house rule", Params: []Param{required(textParam("name", "of the rule")),
		ofKind("each", functionKind, "a function that judges one resource"), ofKind("whole", functionKind, "a function that judges all at once"),
		anyParam("at", "when it judges: declared, proposed, live"),
		required(textParam("level", "what a broken rule does", "warn", "block")), textParam("help", "what to do")}},
}
