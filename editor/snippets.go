package editor

import (
	"fmt"
	"strings"

	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/core/declare"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// statements are what can begin at a place, each with stops for what must be filled in.
func (pl *place) statements() []offer {
	var out []offer
	snippet := func(label, detail, text string) {
		out = append(out, offer{label: label, kind: protocol.CompletionItemKindSnippet, detail: detail, insert: text, stops: true})
	}
	switch file := pl.f.Name; {
	case inRules(file):
		snippet("rule", "a house rule", "def ${1:name}(r):\n    if r.type == \"${2:type}\" and ${3:not r.inputs.tags}:\n"+
			"        return \"${4:what is wrong}\"\n\nrule(\"${5:name}\", each = ${1:name}, level = \"${6|warn,block|}\", help = \"${7:what to do}\")$0")
		return out
	case pl.v.kitOf(file) != nil:
		snippet("kit", "a kit of what a function declares", "def _${1:name}(${2:input}):\n    $0\n\n${1:name} = kit(\n    _${1:name},\n"+
			"    inputs = {\n        \"${2:input}\": kind.${3|text,int,number,bool,cidr,duration,any|}(help = \"${4}\"),\n    },\n"+
			"    help = \"${5:what an instance is for}\",\n)")
		return append(out, pl.resources()...)
	case pl.v.ward(file) == "":
		return nil
	}
	snippet("input", "a value from outside", "${1:name} = input(\"${1:name}\", kind.${2|text,int,number,bool,cidr,duration,any|}, help = \"${3}\")$0")
	snippet("publish", "a value for other wards", "publish(\"${1:name}\", ${2:value}, help = \"${3}\")$0")
	for _, name := range pl.f.Names(pl.at) {
		l := pl.v.name(pl.f, name, pl.at).look()
		if l.Call != nil && strings.HasPrefix(l.What, "kit ") {
			snippet(name, l.What, name+"("+stops(l.Call)+")$0")
		}
	}
	return append(out, pl.resources()...)
}

// resources are the types, each with its required attributes as stops.
func (pl *place) resources() []offer {
	var out []offer
	names := pl.v.predeclared(pl.f.Name)
	for _, driver := range value.Keys(names) {
		l := declare.LookAt(names[driver])
		c := pl.v.session.Catalogs[l.Driver]
		if c == nil || !strings.HasPrefix(l.What, "driver ") {
			continue
		}
		for _, t := range c.Names() {
			full := driver + "." + declare.Identifier(t)
			out = append(out, offer{label: full, kind: protocol.CompletionItemKindSnippet, detail: "a resource", help: c.Types[t].Help,
				insert: full + "(" + stops(declare.TypeCall(full, c.Types[t])) + ")$0", stops: true})
		}
	}
	return out
}

// stops are the required arguments of a call, each to be filled in.
func stops(s *declare.Signature) string {
	var b strings.Builder
	n := 1
	if s.Named {
		fmt.Fprintf(&b, "\"${%d:name}\"", n)
		n++
	}
	for _, p := range s.Params {
		if !p.Required {
			continue
		}
		if b.Len() > 0 {
			b.WriteString(", ")
		}
		fmt.Fprintf(&b, "%s = %s", p.Name, stop(p, n))
		n++
	}
	return b.String()
}

// stop is one stop: the values that it may have, or an example of its kind.
func stop(p declare.Param, n int) string {
	if p.Attr == nil {
		return fmt.Sprintf("${%d}", n)
	}
	if len(p.Attr.OneOf) > 0 {
		var all []string
		for _, v := range p.Attr.OneOf {
			all = append(all, strings.NewReplacer(",", "\\,", "|", "\\|", "$", "\\$", "}", "\\}").Replace(declare.Literal(v)))
		}
		return fmt.Sprintf("${%d|%s|}", n, strings.Join(all, ","))
	}
	switch {
	case p.Attr.Refers != "" || declare.IsHandle(p.Attr):
		_, name, ok := strings.Cut(p.Attr.Refers, ".")
		if !ok {
			name = p.Attr.Refers
		}
		return fmt.Sprintf("${%d:%s}", n, name)
	case p.Attr.Kind == schema.Text:
		return fmt.Sprintf("\"${%d}\"", n)
	case p.Attr.Kind == schema.Bool:
		return fmt.Sprintf("${%d|True,False|}", n)
	case p.Attr.Kind == schema.List:
		return fmt.Sprintf("[${%d}]", n)
	case p.Attr.Kind == schema.MapOf || p.Attr.Kind == schema.Record:
		return fmt.Sprintf("{${%d}}", n)
	}
	return fmt.Sprintf("${%d}", n)
}
