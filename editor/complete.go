package editor

import (
	"context"
	"fmt"
	"slices"
	"strings"

	protocol "github.com/tliron/glsp/protocol_3_16"
	"go.starlark.net/starlark"

	"kasbah/core/code"
	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// offer is one word that can be typed at a place.
type offer struct {
	label  string
	kind   protocol.CompletionItemKind
	detail string
	help   string
	insert string // in place of the label; "" for the label
	stops  bool   // insert has stops of a snippet
	plain  bool   // without stops, the label does
}

// place is where a completion is asked for.
type place struct {
	v  *view
	p  *project
	f  *code.File
	at int
	code.Place
}

// most is how many words one answer holds.
const most = 400

func (s *server) completion(ctx context.Context, p *protocol.CompletionParams) (any, error) {
	d, f, at := s.at(p.TextDocumentPositionParams)
	none := protocol.CompletionList{Items: []protocol.CompletionItem{}}
	if f == nil {
		return none, nil
	}
	offers, word, _ := offered(ctx, d.project, d.path, at)
	typed := f.Text(code.Span{From: word.From, To: at})
	out := none
	for i, o := range offers {
		if !matches(o.label, typed) || o.stops && !o.plain && !s.snippets {
			continue
		}
		if o.stops && !s.snippets {
			o.stops, o.insert = false, ""
		}
		if len(out.Items) == most {
			out.IsIncomplete = true
			break
		}
		sort := fmt.Sprintf("%05d", i)
		item := protocol.CompletionItem{Label: o.label, Kind: ptr(o.kind), SortText: &sort, FilterText: ptr(o.label)}
		if o.detail != "" {
			item.Detail = ptr(o.detail)
		}
		if o.help != "" {
			item.Documentation = o.help
		}
		text := o.insert
		if text == "" {
			text = o.label
		}
		if o.stops {
			item.InsertTextFormat = ptr(protocol.InsertTextFormatSnippet)
		}
		item.TextEdit = protocol.TextEdit{Range: rangeOf(f, word), NewText: text}
		out.Items = append(out.Items, item)
	}
	return out, nil
}

// offered are the words that fit a place of a file, and the word that they stand for.
func offered(ctx context.Context, p *project, path string, at int) ([]offer, code.Span, *code.File) {
	f, v := p.file(path), p.view(ctx)
	switch {
	case v == nil || f == nil:
	case path == estate.File:
		offers, word := v.completeEstate(f, at)
		return offers, word, f
	case strings.HasSuffix(path, ".star"):
		pl := &place{v: v, p: p, f: f, at: at, Place: f.Place(at)}
		return pl.offers(), pl.Word, f
	}
	return nil, code.Span{}, f
}

// matches reports whether the letters that were typed stand in a word in this order, the first one at its
// start or at the start of a part of it.
func matches(label, typed string) bool {
	if typed == "" {
		return true
	}
	label, typed = strings.ToLower(label), strings.ToLower(typed)
	for i := range label {
		if label[i] == typed[0] && (i == 0 || strings.IndexByte("_-./:\" ", label[i-1]) >= 0) {
			rest := typed
			for j := i; j < len(label) && rest != ""; j++ {
				if label[j] == rest[0] {
					rest = rest[1:]
				}
			}
			if rest == "" {
				return true
			}
		}
	}
	return false
}

// offers are the words that fit a place in declarations.
func (pl *place) offers() []offer {
	switch {
	case pl.Comment:
		return nil
	case pl.Text:
		return pl.inText()
	case pl.Dotted:
		return pl.afterDot()
	}
	call := pl.call()
	if call != nil && call.Def && !call.Value || pl.After == "def" {
		return nil // a name, which the person chooses
	}
	if call != nil && call.Open == '(' && (pl.After == "(" || pl.After == ",") {
		return pl.inCall(call)
	}
	if pl.After == "=" || pl.After == ":" && call != nil && call.Open == '{' || pl.After == "[" || pl.After == "," {
		if attr, driver := pl.wanted(); attr != nil {
			return pl.values(attr, driver)
		}
	}
	if call != nil && call.Open == '{' && (pl.After == "{" || pl.After == ",") {
		return pl.names(nil, "")
	}
	if pl.Begins {
		return append(pl.statements(), pl.names(nil, "")...)
	}
	return pl.names(nil, "")
}

func (pl *place) call() *code.Call {
	if len(pl.Calls) == 0 {
		return nil
	}
	return &pl.Calls[0]
}

// signature is how what a call calls is called; nil where that is not known.
func (pl *place) signature(c *code.Call) (*declare.Signature, declare.Look) {
	if c.Fn == "" {
		return nil, declare.Look{}
	}
	if strings.HasSuffix(c.Fn, ".find") { // what a thing is found by are its attributes
		l := pl.v.expression(pl.f, strings.TrimSuffix(c.Fn, ".find"), c.At).look()
		if l.Call != nil && l.Type != nil {
			s := *l.Call
			s.Named = false
			s.Params = nil
			for _, a := range l.Type.Attributes {
				if !a.Secret {
					s.Params = append(s.Params, declare.Param{Name: declare.Identifier(a.Name), Attr: a, Help: a.Help})
				}
			}
			return &s, l
		}
	}
	l := pl.v.expression(pl.f, c.Fn, c.At).look()
	return l.Call, l
}

// wanted is what the schema says of the value at the place, through lists and maps around it.
func (pl *place) wanted() (attr *schema.Attribute, driver string) {
	for i := range pl.Calls {
		c := &pl.Calls[i]
		if c.Open != '(' {
			continue
		}
		s, l := pl.signature(c)
		if s == nil {
			return nil, ""
		}
		if c.Name != "" {
			for _, p := range s.Params {
				if p.Name == c.Name {
					attr = p.Attr
				}
			}
		} else if !s.Named && c.Arg < len(s.Params) {
			attr = s.Params[c.Arg].Attr
		}
		for j := i - 1; j >= 0 && attr != nil; j-- {
			switch inner := &pl.Calls[j]; {
			case inner.Open == '[':
				attr = attr.Elem
			case inner.Open == '{' && attr.Kind == schema.MapOf:
				attr = attr.Elem
			case inner.Open == '{':
				attr = field(attr, inner.Key)
			}
		}
		return attr, l.Driver
	}
	return nil, ""
}

func field(a *schema.Attribute, name string) *schema.Attribute {
	for _, f := range a.Fields {
		if f.Name == name {
			return f
		}
	}
	return nil
}

// afterDot are the members of what stands before the dot.
func (pl *place) afterDot() []offer {
	var out []offer
	if pl.Before == "r" && inRules(pl.f.Name) {
		for _, name := range []string{"action", "address", "guarded", "inputs", "kit", "live", "name", "type", "ward", "was"} {
			out = append(out, offer{label: name, kind: protocol.CompletionItemKindField})
		}
		return out
	}
	k := pl.v.expression(pl.f, pl.Before, pl.at)
	l := k.look()
	want := pl.follows()
	for _, m := range l.Members {
		o := offer{label: m.Name, kind: protocol.CompletionItemKindField, detail: m.Kind(), help: m.Help}
		switch {
		case strings.HasPrefix(l.What, "driver "):
			o.kind = protocol.CompletionItemKindClass
			if t := declare.LookAt(memberOf(k.value, m.Name)); t.Call != nil && want == "" {
				o.insert, o.stops, o.plain = m.Name+"("+stops(t.Call)+")$0", true, true
			}
		case strings.HasPrefix(l.What, "module "), m.Attr == nil && k.value != nil && isCallable(k.value, m.Name):
			o.kind = protocol.CompletionItemKindFunction
		}
		if k.value != nil && !pl.accepts(memberOf(k.value, m.Name), want) {
			continue
		}
		out = append(out, o)
	}
	return out
}

func memberOf(v starlark.Value, name string) starlark.Value {
	if has, ok := v.(starlark.HasAttrs); ok {
		if is, err := has.Attr(name); err == nil {
			return is
		}
	}
	return nil
}

func isCallable(v starlark.Value, name string) bool {
	_, ok := memberOf(v, name).(starlark.Callable)
	return ok
}

// follows is what stands right behind the word: a bracket, or a dot with the name after it.
func (pl *place) follows() string {
	rest := string(pl.f.Body[pl.Word.To:])
	rest, _, _ = strings.Cut(rest, "\n")
	switch {
	case rest == "":
		return ""
	case rest[0] == '(' || rest[0] == '[':
		return rest[:1]
	case rest[0] == '.':
		n := 1
		for n < len(rest) && (rest[n] == '_' || rest[n] >= 'a' && rest[n] <= 'z' || rest[n] >= 'A' && rest[n] <= 'Z' || rest[n] >= '0' &&
			rest[n] <= '9') {
			n++
		}
		return rest[:n]
	}
	return ""
}

// accepts reports whether a value can stand before what follows the word. One that is not known might.
func (pl *place) accepts(v starlark.Value, follows string) bool {
	if v == nil || follows == "" {
		return true
	}
	switch follows[0] {
	case '(':
		_, ok := v.(starlark.Callable)
		return ok
	case '[':
		switch v.(type) {
		case starlark.Mapping, starlark.Indexable:
			return true
		}
		return false
	}
	return memberOf(v, follows[1:]) != nil || follows == "."
}

// inCall are the arguments that a call can take besides those it has, and what its next argument can be.
func (pl *place) inCall(c *code.Call) []offer {
	s, l := pl.signature(c)
	if s == nil {
		if c.Named {
			return nil
		}
		return pl.names(nil, "")
	}
	if s.Named && c.Arg == 0 {
		return nil // a name, which the person chooses
	}
	followed := strings.HasPrefix(strings.TrimLeft(string(pl.f.Body[pl.Word.To:]), " "), "=") &&
		!strings.HasPrefix(strings.TrimLeft(string(pl.f.Body[pl.Word.To:]), " "), "==")
	var out []offer
	for i, p := range s.Params {
		if slices.Contains(c.Given, p.Name) || !s.Named && !strings.HasSuffix(c.Fn, ".find") && i < c.Arg && !c.Named {
			continue
		}
		o := offer{label: p.Name, kind: protocol.CompletionItemKindField, detail: describeParam(p), help: p.Help,
			insert: p.Name + " = "}
		if followed {
			o.insert = p.Name
		}
		out = append(out, o)
	}
	if !s.Named && !c.Named && !followed {
		var attr *schema.Attribute
		if c.Arg < len(s.Params) {
			attr = s.Params[c.Arg].Attr
		}
		out = append(out, pl.values(attr, l.Driver)...)
	}
	return out
}

// describeParam is a parameter in a few words: its kind, and whether it is required.
func describeParam(p declare.Param) string {
	out := p.Kind()
	add := func(text string) {
		if out != "" {
			out += ", "
		}
		out += text
	}
	switch {
	case p.Required:
		add("required")
	case p.Default != "" && len(p.Default) < 40:
		add("default " + p.Default)
	}
	return out
}

// values are what can be given where an attribute is wanted; anything for nil.
func (pl *place) values(attr *schema.Attribute, driver string) []offer {
	var out []offer
	if attr != nil {
		for _, one := range attr.OneOf {
			out = append(out, offer{label: declare.Literal(one), kind: protocol.CompletionItemKindEnumMember})
		}
		if attr.Kind == schema.Bool {
			out = append(out, offer{label: "True", kind: protocol.CompletionItemKindValue}, offer{label: "False",
				kind: protocol.CompletionItemKindValue})
		}
		if attr.HasDefault && len(attr.OneOf) == 0 && attr.Kind != schema.Bool && attr.Default != nil {
			out = append(out, offer{label: declare.Literal(attr.Default), kind: protocol.CompletionItemKindValue, detail: "the default"})
		}
		if declare.KindName(attr) == "care" {
			out = append(out, offer{label: "care", kind: protocol.CompletionItemKindFunction, insert: "care($1)$0", stops: true})
		}
		if attr.Secret && pl.v.ward(pl.f.Name) != "" {
			for _, name := range pl.v.session.Estate.Secrets(pl.v.env) {
				out = append(out, offer{label: "secret(" + declare.Literal(name) + ")", kind: protocol.CompletionItemKindFunction})
			}
		}
		if ward := pl.v.ward(pl.f.Name); ward != "" {
			out = append(out, pl.published(attr, driver)...)
		}
	}
	return append(out, pl.names(attr, driver)...)
}

// published are the values of other wards that fit an attribute.
func (pl *place) published(attr *schema.Attribute, driver string) []offer {
	var out []offer
	own := pl.v.ward(pl.f.Name)
	for _, ward := range pl.v.session.Estate.Wards {
		w := pl.v.wards[ward]
		if ward == own || w == nil || pl.v.reads(ward, own) {
			continue
		}
		for _, name := range value.Keys(w.Published) {
			is, err := pl.v.eval.Declared.Value(own, w.Published[name].Value)
			if err == nil && declare.Fits(is, attr, driver) {
				out = append(out, offer{label: fmt.Sprintf("published(%q, %q)", ward, name), detail: w.Published[name].Help,
					kind: protocol.CompletionItemKindReference})
			}
		}
	}
	return out
}

// reads reports whether a ward reads another one, through others as well.
func (v *view) reads(ward, other string) bool {
	seen := map[string]bool{}
	var through func(w string) bool
	through = func(w string) bool {
		if seen[w] || v.wards[w] == nil {
			return false
		}
		seen[w] = true
		for _, r := range v.wards[w].Reads {
			if r.Ward == other || through(r.Ward) {
				return true
			}
		}
		return false
	}
	return through(ward)
}

// names are the names that can stand at the place and whose value fits an attribute; all for nil.
func (pl *place) names(attr *schema.Attribute, driver string) []offer {
	var out []offer
	seen := map[string]bool{}
	follows := pl.follows()
	own := pl.f.Names(pl.at)
	for _, name := range own {
		if seen[name] {
			continue
		}
		seen[name] = true
		k := pl.v.name(pl.f, name, pl.at)
		if !k.fits(attr, driver) || !pl.accepts(k.value, follows) || pl.reading() && !iterates(k) {
			continue
		}
		l := k.look()
		o := offer{label: name, kind: protocol.CompletionItemKindVariable, detail: l.What, help: l.Help}
		if l.Call != nil {
			o.kind = protocol.CompletionItemKindFunction
		}
		if l.Shown != "" && l.Resource == nil {
			o.detail += " " + l.Shown
		} else if l.Resource != nil {
			o.detail = l.Resource.Full()
		}
		out = append(out, o)
	}
	all := pl.v.predeclared(pl.f.Name)
	for _, name := range value.Keys(all) {
		is := all[name]
		if seen[name] || name == "True" || name == "False" || name == "None" {
			continue
		}
		if attr != nil && !declare.Fits(is, attr, driver) || !pl.accepts(is, follows) || pl.reading() && !iterates(known{value: is}) {
			continue
		}
		l := declare.LookAt(is)
		o := offer{label: name, kind: protocol.CompletionItemKindConstant, detail: l.What, help: l.Help}
		switch {
		case l.Call != nil:
			o.kind = protocol.CompletionItemKindFunction
		case len(l.Members) > 0 && l.Shown == "":
			o.kind = protocol.CompletionItemKindModule
		}
		if l.Shown != "" {
			o.detail += " " + l.Shown
		}
		out = append(out, o)
	}
	return out
}

// reading reports whether the place is what a loop goes over.
func (pl *place) reading() bool {
	if pl.After != "in" {
		return false
	}
	return pl.follows() == ""
}

func iterates(k known) bool {
	if k.value == nil {
		return true
	}
	_, ok := k.value.(starlark.Iterable)
	return ok
}
