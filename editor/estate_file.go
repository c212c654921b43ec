package editor

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/core/code"
	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/form"
	"kasbah/core/value"
	"kasbah/session"
)

var (
	sectionLine = form.Of(`^\s*\[\[?([^\[\]]*)\]?\]?`)
	keyOfLine   = form.Of(`^\s*([A-Za-z0-9_-]+)\s*=`)
)

// section is the section of kasbah.toml that an offset is in, and the keys that it has.
func section(f *code.File, at int) (name string, given []string) {
	line, _ := f.Line(at)
	begin := 0
	for n := line - 1; n >= 0; n-- {
		text := f.Text(code.Span{From: f.LineStart(n), To: f.LineStart(n + 1)})
		if m := sectionLine().FindStringSubmatch(text); m != nil {
			name, begin = strings.TrimSpace(m[1]), n+1
			break
		}
	}
	return name, keysBelow(f, begin, line)
}

// keysBelow are the keys from a line on to the next section, but for one line.
func keysBelow(f *code.File, begin, but int) []string {
	var out []string
	for n := begin; n < f.Lines(); n++ {
		text := f.Text(code.Span{From: f.LineStart(n), To: f.LineStart(n + 1)})
		if sectionLine().MatchString(text) {
			break
		}
		if m := keyOfLine().FindStringSubmatch(text); m != nil && n != but {
			out = append(out, m[1])
		}
	}
	return out
}

// completeEstate are the words that fit a place in kasbah.toml, and the word that they stand for.
func (v *view) completeEstate(f *code.File, at int) ([]offer, code.Span) {
	line, from := f.Line(at)
	text := f.Text(code.Span{From: from, To: at})
	whole := strings.TrimRight(f.Text(code.Span{From: from, To: f.LineStart(line + 1)}), "\r\n")
	word := code.Span{From: at, To: at}
	for word.From > from && isKey(f.Body[word.From-1]) {
		word.From--
	}
	for word.To < len(f.Body) && isKey(f.Body[word.To]) {
		word.To++
	}
	if strings.Contains(text, "#") {
		return nil, word
	}
	if m := sectionLine().FindStringIndex(text); m != nil && !strings.Contains(text, "=") { // a header
		word.From = from + strings.LastIndexByte(text, '[') + 1
		for word.To = at; word.To < from+len(whole) && f.Body[word.To] != ']'; {
			word.To++
		}
		return v.headers(f, from), word
	}
	name, given := section(f, at)
	key, _, isValue := strings.Cut(text, "=")
	if !isValue {
		return v.keysOf(f, name, given, strings.Contains(whole, "=")), word
	}
	key = strings.TrimSpace(key)
	if i := strings.LastIndexAny(text, "\"'"); i >= 0 && strings.Count(text, "\"")%2 == 1 {
		word.From = from + i + 1
		for word.To = at; word.To < from+len(whole) && f.Body[word.To] != '"'; {
			word.To++
		}
		return v.textsOf(name, key), word
	}
	var out []offer
	for _, o := range v.textsOf(name, key) {
		o.label = fmt.Sprintf("%q", o.label)
		out = append(out, o)
	}
	return out, word
}

func isKey(b byte) bool {
	return b == '_' || b == '-' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= '0' && b <= '9'
}

// headers are the sections that can begin, without those there are.
func (v *view) headers(f *code.File, from int) []offer {
	e := v.session.Estate
	line, _ := f.Line(from)
	var all []string
	for _, k := range estate.KeysOf("") {
		if k.Table && k.Name != "env" && k.Name != "kits" && k.Name != "notify" {
			all = append(all, k.Name)
		}
	}
	all = slices.DeleteFunc(append(all, "kits"), func(s string) bool { return s == "drivers" })
	for _, env := range e.Environments() {
		for _, k := range estate.KeysOf("env." + env) {
			if k.Table && k.Name != "ward" && k.Name != "drivers" {
				all = append(all, "env."+env+"."+k.Name)
			}
		}
		for _, w := range e.Wards {
			all = append(all, "env."+env+".ward."+w+".inputs", "env."+env+".ward."+w+".watch")
		}
		for _, d := range e.Drivers() {
			all = append(all, "env."+env+".drivers."+d)
		}
	}
	there := map[string]bool{}
	for _, m := range regexp.MustCompile(`(?m)^\s*\[([^\[\]]+)\]`).FindAllSubmatchIndex(f.Body, -1) {
		if m[2] < from || m[2] > from+200 {
			there[string(f.Body[m[2]:m[3]])] = true
		}
	}
	below := keysBelow(f, line+1, -1)
	fits := func(name string) bool { // what stands below the header is for such a section
		if len(below) == 0 {
			return true
		}
		keys := v.keysOf(f, name, nil, true)
		for _, key := range below {
			if !slices.ContainsFunc(keys, func(o offer) bool { return o.label == key }) {
				return false
			}
		}
		return true
	}
	var out []offer
	for _, name := range all {
		if !there[name] && fits(name) {
			out = append(out, offer{label: name, kind: protocol.CompletionItemKindModule})
		}
	}
	return out
}

// keysOf are the keys that a section can have besides those it has.
func (v *view) keysOf(f *code.File, name string, given []string, followed bool) []offer {
	var out []offer
	add := func(label, detail, help string) {
		if slices.Contains(given, label) || slices.ContainsFunc(out, func(o offer) bool { return o.label == label }) {
			return
		}
		o := offer{label: label, kind: protocol.CompletionItemKindProperty, detail: detail, help: help, insert: label + " = "}
		if followed {
			o.insert = label
		}
		out = append(out, o)
	}
	parts := strings.Split(name, ".")
	last := parts[len(parts)-1]
	switch {
	case last == "inputs":
		for _, w := range v.session.Estate.Wards {
			ward := v.wards[w]
			if ward == nil || len(parts) == 5 && parts[3] != w {
				continue
			}
			for _, in := range value.Keys(ward.Taken) {
				if !ward.Taken[in].Secret {
					add(in, "input of "+w, ward.Taken[in].Help)
				}
			}
		}
	case last == "ledger":
		for _, key := range session.LedgerKeys(v.valueOf(f, name, "store")) {
			add(key, "", "")
		}
	case len(parts) > 1 && parts[len(parts)-2] == "drivers":
		kind := v.valueOf(f, name, "kind")
		if kind == "" {
			kind = v.options.Kinds[last]
		}
		for _, key := range session.DriverKeys(kind) {
			add(key, "", "")
		}
	case last == "approval":
		for _, key := range []string{"signatures", "keys", "for", "valid"} {
			add(key, "", "")
		}
	case len(parts) == 3 && last == "secrets":
		for _, w := range v.session.Estate.Wards {
			if ward := v.wards[w]; ward != nil {
				for _, s := range value.Keys(ward.Secrets) {
					add(s, "secret of "+w, "")
				}
			}
		}
	default:
		for _, k := range estate.KeysOf(name) {
			if name == "" && k.Table || k.Table && len(parts) > 0 && name != "" {
				continue // these have sections of their own
			}
			add(k.Name, "", k.Help)
		}
	}
	return out
}

// valueOf is the text that a section gives a key; "" for none.
func (v *view) valueOf(f *code.File, section, key string) string {
	for _, p := range estate.KeyPlaces(string(f.Body)) {
		if p.Key == section+"."+key && p.End > p.Value {
			return strings.Trim(string(f.Body[p.Value:p.End]), "\"' ")
		}
	}
	return ""
}

// textsOf are the texts that a key can have.
func (v *view) textsOf(name, key string) []offer {
	parts := strings.Split(name, ".")
	last := parts[len(parts)-1]
	var list []string
	switch {
	case last == "ledger" && key == "store":
		list = session.StoreKinds()
	case last == "ledger" && key == "seal":
		list = []string{"all", "off"}
	case len(parts) > 1 && parts[len(parts)-2] == "drivers" && key == "kind":
		list = session.DriverKinds()
	case last == "inputs":
		for _, w := range v.session.Estate.Wards {
			if ward := v.wards[w]; ward != nil && ward.Taken[key] != nil {
				for _, one := range v.choices(w, key) {
					if !slices.Contains(list, one) {
						list = append(list, one)
					}
				}
			}
		}
	case last == "approval" && key == "for":
		list = []string{"add", "edit", "swap", "drop", "data", "security"}
	}
	var out []offer
	for _, text := range list {
		out = append(out, offer{label: text, kind: protocol.CompletionItemKindEnumMember})
	}
	return out
}

// choices are the texts that the declaration of an input says it may have.
func (v *view) choices(ward, input string) []string {
	for _, file := range value.Keys(v.wards[ward].Files) {
		f := v.project.file(file)
		if f == nil {
			continue
		}
		for _, c := range f.Calls() {
			if code.Callee(c) != "input" {
				continue
			}
			if name, ok := code.TextOf(code.Argument(c, "name", 0)); !ok || name != input {
				continue
			}
			return code.Texts(code.Argument(c, "one_of", -1))
		}
	}
	return nil
}

// inputPlaces are where the wards of the estate take an input that a key of kasbah.toml feeds.
func (v *view) inputPlaces(key string) []declare.Taken {
	parts := strings.Split(key, ".")
	for i, part := range parts {
		if part != "inputs" || i+1 >= len(parts) {
			continue
		}
		var out []declare.Taken
		for _, w := range v.session.Estate.Wards {
			ward := v.wards[w]
			if ward == nil || i >= 4 && parts[2] == "ward" && parts[3] != w {
				continue
			}
			if t := ward.Taken[parts[i+1]]; t != nil {
				out = append(out, *t)
			}
		}
		return out
	}
	return nil
}

// keyAt is the key of kasbah.toml whose line holds an offset; "" for none.
func keyAt(f *code.File, at int) (estate.KeyPlace, bool) {
	var best estate.KeyPlace
	found := false
	line, _ := f.Line(at)
	for _, p := range estate.KeyPlaces(string(f.Body)) {
		if n, _ := f.Line(p.From); p.Value > 0 && (n == line && !found || p.From <= at && at <= p.End) {
			best, found = p, true
		}
	}
	return best, found
}
