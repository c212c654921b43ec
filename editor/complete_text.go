package editor

import (
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/core/code"
	"kasbah/core/declare"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// inText are the texts that can stand between the quotes.
func (pl *place) inText() []offer {
	c := pl.call()
	if c == nil {
		return nil
	}
	v := pl.v
	own := v.ward(pl.f.Name)
	quoted := func(list []string, kind protocol.CompletionItemKind) []offer {
		var out []offer
		for _, text := range list {
			out = append(out, offer{label: text, kind: kind})
		}
		return out
	}
	outer := c
	if c.Open != '(' && len(pl.Calls) > 1 {
		outer = &pl.Calls[1]
	}
	argument := func(name string, place int) bool {
		return c == outer && (c.Name == name || c.Name == "" && c.Arg == place)
	}
	switch {
	case outer.Fn == "load" && c.Arg == 0:
		return quoted(pl.modules(), protocol.CompletionItemKindFile)
	case outer.Fn == "load":
		return pl.loadable(strings.Trim(c.First, "\"'"))
	case outer.Fn == "published" && argument("ward", 0):
		wards := slices.DeleteFunc(slices.Clone(v.session.Estate.Wards), func(w string) bool {
			return w == own || v.reads(w,
				own)
		})
		return quoted(wards, protocol.CompletionItemKindModule)
	case outer.Fn == "published" && argument("name", 1):
		w := v.wards[strings.Trim(c.First, "\"'")]
		if w == nil {
			return nil
		}
		var out []offer
		for _, name := range value.Keys(w.Published) {
			out = append(out, offer{label: name, kind: protocol.CompletionItemKindReference, detail: w.Published[name].Help})
		}
		return out
	case outer.Fn == "file" && argument("path", 0):
		return quoted(pl.besides(), protocol.CompletionItemKindFile)
	case outer.Fn == "kind.handle":
		return quoted(v.typeNames(pl.f.Name), protocol.CompletionItemKindClass)
	case outer.Fn == "secret" && argument("name", 0):
		return quoted(v.session.Estate.Secrets(v.env), protocol.CompletionItemKindConstant)
	case outer.Fn == "input" && argument("name", 0):
		return quoted(v.givenInputs(own), protocol.CompletionItemKindVariable)
	case outer.Fn == "care" && outer.Name == "after":
		return quoted(v.addresses(own), protocol.CompletionItemKindReference)
	case outer.Fn == "care" && outer.Name == "renamed_from":
		return quoted(v.recordedOnly(own), protocol.CompletionItemKindReference)
	case outer.Fn == "care" && outer.Name == "leave":
		return quoted(pl.leavable(), protocol.CompletionItemKindField)
	case outer.Fn == "care" && outer.Name == "excuse" && c.Open == '{' && !c.Value:
		return quoted(v.rulesOfOne(), protocol.CompletionItemKindConstant)
	case outer.Fn == "rule" && outer.Name == "at":
		return quoted([]string{"declared", "proposed", "live"}, protocol.CompletionItemKindEnumMember)
	}
	attr, _ := pl.wanted()
	if c.Open == '{' && !c.Value { // a key
		return pl.keys()
	}
	if attr == nil || pl.After != "=" && pl.After != "[" && pl.After != "," && pl.After != ":" && pl.After != "(" {
		return nil
	}
	var out []offer
	for _, one := range attr.OneOf {
		if text, ok := one.(string); ok {
			out = append(out, offer{label: text, kind: protocol.CompletionItemKindEnumMember})
		}
	}
	return out
}

// keys are the fields of the record that the map at the place is.
func (pl *place) keys() []offer {
	given := pl.Calls[0].Given
	around := *pl
	around.Calls = append([]code.Call{}, pl.Calls...)
	for i := range around.Calls {
		if around.Calls[i].Open != '(' {
			continue
		}
		inner := around.Calls[:i]
		around.Calls = around.Calls[i:]
		attr, _ := around.wanted()
		for j := len(inner) - 1; j > 0 && attr != nil; j-- {
			switch {
			case inner[j].Open == '[' || attr.Kind == schema.MapOf:
				attr = attr.Elem
			default:
				attr = field(attr, inner[j].Key)
			}
		}
		if attr == nil {
			return nil
		}
		var out []offer
		for _, f := range attr.Fields {
			if !slices.Contains(given, f.Name) && !f.Output {
				out = append(out, offer{label: f.Name, kind: protocol.CompletionItemKindField, detail: declare.KindName(f),
					help: f.Help})
			}
		}
		return out
	}
	return nil
}

// modules are what a load statement of the file can name.
func (pl *place) modules() []string {
	var out []string
	own := path.Dir(pl.f.Name)
	ward := pl.v.ward(pl.f.Name)
	in := pl.v.kitOf(pl.f.Name)
	for _, name := range value.Keys(pl.v.options.Kits) {
		k := pl.v.options.Kits[name]
		if k.Err == nil && (in == nil || slices.Contains(in.Kits, name)) && (ward != "" || in != nil) {
			out = append(out, kitPrefix+name)
		}
	}
	for _, file := range pl.p.sources() {
		dir := path.Dir(file)
		switch {
		case file == pl.f.Name || inRules(file) && !inRules(pl.f.Name):
		case ward != "" && dir == own, in == nil && ward == "" && dir == own:
			out = append(out, path.Base(file))
		case pl.v.ward(file) == "" && pl.v.kitOf(file) == nil && in == nil && !inKitFolder(pl.v, file):
			out = append(out, "/"+file)
		case in != nil && strings.HasPrefix(file, in.Folder+"/") && !strings.Contains(file, "/tests/"):
			if rel, err := filepath.Rel(own, file); err == nil && !strings.HasPrefix(rel, "..") {
				out = append(out, filepath.ToSlash(rel))
			}
		}
	}
	return out
}

func inKitFolder(v *view, file string) bool {
	for _, k := range v.options.Kits {
		if k.Folder != "" && strings.HasPrefix(file, k.Folder+"/") {
			return true
		}
	}
	return false
}

// loadable are the names that a module offers.
func (pl *place) loadable(module string) []offer {
	var out []offer
	file := pl.v.module(pl.f.Name, module)
	if f := pl.p.file(file); f != nil {
		for _, name := range f.Exports() {
			l := known{value: pl.v.global(file, name)}.look()
			out = append(out, offer{label: name, kind: protocol.CompletionItemKindVariable, detail: l.What, help: l.Help})
		}
	}
	return out
}

// besides are the files that file("…") can read.
func (pl *place) besides() []string {
	dir := path.Dir(pl.f.Name)
	var out []string
	root := filepath.Join(pl.p.dir, filepath.FromSlash(dir))
	err := filepath.WalkDir(root, func(at string, d os.DirEntry, err error) error {
		if err != nil || len(out) > most {
			return nil
		}
		if d.IsDir() && at != root && strings.HasPrefix(d.Name(), ".") {
			return filepath.SkipDir
		}
		if rel, err := filepath.Rel(root, at); err == nil && d.Type().IsRegular() && !strings.HasSuffix(at, ".star") {
			out = append(out, filepath.ToSlash(rel))
		}
		return nil
	})
	if err != nil {
		return nil
	}
	return out
}

// leavable are the attributes of the resource around a care(leave = …).
func (pl *place) leavable() []string {
	for i := range pl.Calls {
		if _, l := pl.signature(&pl.Calls[i]); l.Type != nil {
			var out []string
			for _, a := range l.Type.Attributes {
				if !a.Output {
					out = append(out, a.Name)
				}
			}
			return out
		}
	}
	return nil
}

// typeNames are the types that a file can name, with their drivers.
func (v *view) typeNames(file string) []string {
	var out []string
	if k := v.kitOf(file); k != nil {
		for _, kind := range k.Drivers {
			if c := v.session.Catalogs[v.driverOf(kind)]; c != nil {
				for _, t := range c.Names() {
					out = append(out, kind+"."+t)
				}
			}
		}
		return out
	}
	for _, name := range value.Keys(v.session.Catalogs) {
		for _, t := range v.session.Catalogs[name].Names() {
			out = append(out, name+"."+t)
		}
	}
	return out
}

// givenInputs are the inputs that kasbah.toml gives a ward and that the ward does not take yet.
func (v *view) givenInputs(ward string) []string {
	var out []string
	for _, in := range v.options.Inputs {
		taken := v.wards[ward] != nil && v.wards[ward].Taken[in.Name] != nil
		if (in.Ward == "" || in.Ward == ward) && !taken && !slices.Contains(out, in.Name) {
			out = append(out, in.Name)
		}
	}
	return out
}

// addresses are those that a ward can name: its own without their ward.
func (v *view) addresses(own string) []string {
	var out []string
	for _, r := range v.resources(own) {
		out = append(out, r.Address)
	}
	for _, ward := range v.session.Estate.Wards {
		if ward == own || v.reads(ward, own) {
			continue
		}
		for _, r := range v.resources(ward) {
			out = append(out, r.Full())
		}
	}
	return out
}

// rulesOfOne are the rules that judge one resource each, which can be excused.
func (v *view) rulesOfOne() []string { return v.eval.RuleNames() }
