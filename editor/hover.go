package editor

import (
	"context"
	"fmt"
	"strings"
	"time"

	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/core/code"
	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/value"
)

func (s *server) hover(ctx context.Context, p *protocol.HoverParams) (any, error) {
	d, f, at := s.at(p.TextDocumentPositionParams)
	if f == nil {
		return nil, nil
	}
	views := d.project.all(ctx)
	if len(views) == 0 {
		return nil, nil
	}
	var text string
	var span code.Span
	if d.path == estate.File {
		text, span = hoverEstate(views, f, at)
	} else {
		h := &hovering{ctx: ctx, views: views, v: views[0], f: f, at: at}
		text, span = h.text()
	}
	if text == "" {
		return nil, nil
	}
	return protocol.Hover{Contents: protocol.MarkupContent{Kind: protocol.MarkupKindMarkdown, Value: strings.TrimSpace(text)},
		Range: ptr(rangeOf(f, span))}, nil
}

// hovering is what is to be told of a place in declarations.
type hovering struct {
	ctx   context.Context
	views []*view
	v     *view
	f     *code.File
	at    int
}

// text is the explanation, as Markdown, and the word that it explains.
func (h *hovering) text() (string, code.Span) {
	// to the end of the word, so that what stands before its dot is read as well
	pl := h.f.Place(h.at)
	word := pl.Word
	if pl.Comment || word.From == word.To {
		if r := h.declaredAt(); r != nil && !pl.Comment {
			return h.resource(r), code.Span{From: h.at, To: h.at}
		}
		return "", word
	}
	name := h.f.Text(word)
	if pl.Text {
		return h.ofText(&pl, name), word
	}
	if len(pl.Calls) > 0 && pl.Calls[0].Open == '(' && isArgument(h.f, word) {
		p := &place{v: h.v, f: h.f, at: h.at, Place: pl}
		if s, l := p.signature(&pl.Calls[0]); s != nil {
			for _, param := range s.Params {
				if param.Name == name {
					return attribute(s.Name, param, l.Type != nil), word
				}
			}
		}
	}
	expr := name
	if pl.Dotted {
		if pl.Before == "" {
			return "", word
		}
		expr = pl.Before + "." + name
	}
	var b strings.Builder
	k := h.v.expression(h.f, expr, h.at)
	if !k.isKnown() {
		return "", word
	}
	l := k.look()
	fmt.Fprintf(&b, "**%s**: %s\n\n", asText(expr), asText(l.What))
	if l.Call != nil {
		fmt.Fprintf(&b, "```\n%s\n```\n\n", signatureLine(l.Call, 90))
	}
	if l.Help != "" {
		fmt.Fprintf(&b, "%s\n\n", sentence(l.Help))
	}
	if l.Resource != nil {
		b.WriteString(h.resource(l.Resource))
		return b.String(), word
	}
	b.WriteString(h.values(expr))
	return b.String(), word
}

// isArgument reports whether the word is followed by the sign that gives an argument its value.
func isArgument(f *code.File, word code.Span) bool {
	rest := strings.TrimLeft(string(f.Body[word.To:min(len(f.Body), word.To+40)]), " \t")
	return strings.HasPrefix(rest, "=") && !strings.HasPrefix(rest, "==")
}

// values are what an expression is in each environment.
func (h *hovering) values(expr string) string {
	var lines []string
	same := true
	for _, v := range h.views {
		l := v.expression(h.f, expr, h.at).look()
		if l.Shown == "" {
			continue
		}
		lines = append(lines, l.Shown)
		same = same && lines[0] == l.Shown
	}
	switch {
	case len(lines) == 0:
		return ""
	case same && len(lines) == len(h.views):
		return fmt.Sprintf("%s\n", coded(lines[0]))
	}
	var b strings.Builder
	for _, v := range h.views {
		if l := v.expression(h.f, expr, h.at).look(); l.Shown != "" {
			fmt.Fprintf(&b, "- %s: %s\n", v.env, coded(l.Shown))
		}
	}
	return b.String()
}

// attribute tells what the schema says of an argument.
func attribute(call string, p declare.Param, ofType bool) string {
	var b strings.Builder
	fmt.Fprintf(&b, "**%s** of %s", p.Name, call)
	if kind := p.Kind(); kind != "" {
		fmt.Fprintf(&b, ": %s", kind)
	}
	b.WriteString("\n\n")
	if p.Help != "" {
		fmt.Fprintf(&b, "%s\n\n", sentence(p.Help))
	}
	var facts []string
	if p.Required {
		facts = append(facts, "required")
	}
	if p.Default != "" {
		facts = append(facts, "default "+coded(p.Default))
	}
	if a := p.Attr; a != nil {
		if limits := a.Limits(); limits != "" {
			facts = append(facts, asText(limits))
		}
		if ofType {
			facts = append(facts, map[bool]string{true: "fixed: a change swaps the resource", false: "can be edited"}[a.Fixed])
		}
		if a.Secret {
			facts = append(facts, "secret")
		}
		if a.Security {
			facts = append(facts, "a change touches security")
		}
	}
	b.WriteString(strings.Join(facts, "; "))
	return b.String()
}

// coded is a value as Markdown's code on one line, and nothing else: a cloud or another person may have
// written it.
func coded(text string) string {
	return "`" + strings.NewReplacer("`", "'", "\n", " ", "\r", " ").Replace(text) + "`"
}

// asText is a text that Markdown takes for text: no link, no picture and no markup of a page.
func asText(text string) string {
	return strings.NewReplacer("[", `\[`, "]", `\]`, "<", `\<`, "`", "'", "\n", " ", "\r", " ").Replace(text)
}

func sentence(text string) string {
	text = asText(strings.TrimSpace(text))
	if text != "" && !strings.HasSuffix(text, ".") && !strings.HasSuffix(text, "?") {
		text += "."
	}
	return strings.ToUpper(text[:min(1, len(text))]) + text[min(1, len(text)):]
}

// ofText tells of a text: what another ward publishes under it, or the resource whose address it is.
func (h *hovering) ofText(pl *code.Place, text string) string {
	if len(pl.Calls) == 0 {
		return ""
	}
	c := pl.Calls[0]
	if c.Fn == "published" && (c.Arg == 1 || c.Name == "name") {
		var b strings.Builder
		for _, v := range h.views {
			if w := v.wards[strings.Trim(c.First, "\"'")]; w != nil && w.Published[text] != nil {
				p := w.Published[text]
				if b.Len() == 0 {
					fmt.Fprintf(&b, "**%s**, published by %s\n\n", text, w.Name)
					if p.Help != "" {
						fmt.Fprintf(&b, "%s\n\n", sentence(p.Help))
					}
				}
				fmt.Fprintf(&b, "- %s: %s\n", v.env, coded(value.Plain(p.Value)))
			}
		}
		return b.String()
	}
	if c.Fn == "input" && c.Arg == 0 && c.Name == "" {
		return hoverInput(h.views, h.v.ward(h.f.Name), text)
	}
	if c.Open == '(' && c.Arg == 0 && c.Name == "" {
		if r := h.declaredAt(); r != nil {
			return h.resource(r)
		}
	}
	ward, short := value.SplitWard(text)
	if ward == "" {
		ward = h.v.ward(h.f.Name)
	}
	for _, r := range h.v.resources(ward) {
		if r.Address == short {
			return h.resource(r)
		}
	}
	return ""
}

// hoverInput tells of an input: what it is for, and its value in each environment.
func hoverInput(views []*view, ward, name string) string {
	var b strings.Builder
	for _, v := range views {
		w := v.wards[ward]
		if w == nil || w.Taken[name] == nil {
			continue
		}
		t := w.Taken[name]
		if b.Len() == 0 {
			fmt.Fprintf(&b, "**%s**, an input of %s\n\n", name, ward)
			if t.Help != "" {
				fmt.Fprintf(&b, "%s\n\n", sentence(t.Help))
			}
		}
		shown := "a secret"
		if !t.Secret {
			shown = coded(value.Plain(t.Value))
		}
		fmt.Fprintf(&b, "- %s: %s, given by %s\n", v.env, shown, t.Source)
	}
	return b.String()
}

func hoverEstate(views []*view, f *code.File, at int) (string, code.Span) {
	p, ok := keyAt(f, at)
	if !ok {
		return "", code.Span{}
	}
	span := code.Span{From: p.From, To: p.End}
	parts := strings.Split(p.Key, ".")
	name := parts[len(parts)-1]
	if taken := views[0].inputPlaces(p.Key); len(taken) > 0 {
		var b strings.Builder
		for _, w := range views[0].session.Estate.Wards {
			if ward := views[0].wards[w]; ward != nil && ward.Taken[taken[0].Name] != nil {
				b.WriteString(hoverInput(views, w, taken[0].Name) + "\n")
			}
		}
		return b.String(), span
	}
	for _, k := range estate.KeysOf(strings.Join(parts[:len(parts)-1], ".")) {
		if k.Name == name {
			return fmt.Sprintf("**%s**\n\n%s", name, sentence(k.Help)), span
		}
	}
	return "", span
}

// declaredAt is the resource that the innermost call around the place declares; nil for none, or several.
func (h *hovering) declaredAt() *declare.Resource {
	for _, c := range h.f.Place(h.at).Calls {
		if c.Open != '(' {
			continue
		}
		list := h.v.declaredBy(h.f, c.At)
		if len(list) > 0 {
			return list[0]
		}
		return nil
	}
	return nil
}

// declaredBy are the resources that the call with an opening bracket at some offset declares, by the last
// good evaluation.
func (v *view) declaredBy(f *code.File, paren int) []*declare.Resource {
	line, from := f.Line(paren)
	column := 1 + len([]rune(string(f.Body[from:paren])))
	var out []*declare.Resource
	for _, r := range v.resources(v.ward(f.Name)) {
		if r.CalledAt(v.evaluated(f.Name), line+1, column) {
			out = append(out, r)
		}
	}
	return out
}

// resource tells what is recorded of a resource in each environment, and what drifted.
func (h *hovering) resource(r *declare.Resource) string {
	var b strings.Builder
	fmt.Fprintf(&b, "**%s**\n\n", asText(r.Full()))
	for _, v := range h.views {
		one := v.eval.Declared.Resource(r.Full())
		if one == nil {
			continue
		}
		rec, run, err := v.record(h.ctx, one)
		switch {
		case err != nil:
			fmt.Fprintf(&b, "- %s: the ledger cannot be read: %s\n", v.env, asText(err.Error()))
			continue
		case rec == nil:
			fmt.Fprintf(&b, "- %s: not enacted yet\n", v.env)
			continue
		}
		fmt.Fprintf(&b, "- %s: %s, changed %s", v.env, coded(rec.ID), rec.Changed.Local().Format(time.DateTime))
		if run != nil {
			fmt.Fprintf(&b, " by %s in run %s", asText(run.Who), ledger.ShortRun(run.Run))
		}
		b.WriteString("\n")
		for _, a := range v.drifted(h.ctx, r.Ward, r.Address) {
			f := a.Finding
			fmt.Fprintf(&b, "  - the last survey found: %s %s", f.Verdict, asText(f.Path))
			if f.Expected != nil && f.Found != nil {
				fmt.Fprintf(&b, " (%s, recorded is %s)", coded(value.Plain(f.Found.V)), coded(value.Plain(f.Expected.V)))
			}
			b.WriteString("\n")
		}
	}
	return b.String()
}

func (s *server) signatureHelp(ctx context.Context, p *protocol.SignatureHelpParams) (any, error) {
	d, f, at := s.at(p.TextDocumentPositionParams)
	if f == nil || !strings.HasSuffix(d.path, ".star") {
		return nil, nil
	}
	v := d.project.view(ctx)
	if v == nil {
		return nil, nil
	}
	pl := &place{v: v, p: d.project, f: f, at: at, Place: f.Place(at)}
	for i := range pl.Calls {
		c := &pl.Calls[i]
		if c.Open != '(' {
			continue
		}
		sig, _ := pl.signature(c)
		if sig == nil {
			return nil, nil
		}
		return signatureOf(sig, c), nil
	}
	return nil, nil
}

// signatureOf is a signature with the argument that is being typed.
func signatureOf(sig *declare.Signature, c *code.Call) protocol.SignatureHelp {
	label := sig.Name + "("
	var params []protocol.ParameterInformation
	active := -1
	add := func(text, help string) {
		if len(params) > 0 {
			label += ", "
		}
		from := len([]rune(label))
		label += text
		params = append(params, protocol.ParameterInformation{Label: []uint32{uint32(from), uint32(len([]rune(label)))}, Documentation: help})
	}
	if sig.Named {
		add("name", "what the address ends in")
		if c.Arg == 0 && c.Name == "" {
			active = 0
		}
	}
	for i, p := range sig.Params {
		if c.Name == p.Name || c.Name == "" && !sig.Named && i == c.Arg {
			active = len(params)
		}
		add(paramText(p), p.Help)
	}
	label += ")"
	info := protocol.SignatureInformation{Label: label, Documentation: sig.Help, Parameters: params}
	out := protocol.SignatureHelp{Signatures: []protocol.SignatureInformation{info}, ActiveSignature: ptr(uint32(0))}
	if active >= 0 {
		out.ActiveParameter = ptr(uint32(active))
	} else {
		out.ActiveParameter = ptr(uint32(len(params))) // none of them
	}
	return out
}

func paramText(p declare.Param) string {
	text := p.Name
	if kind := p.Kind(); kind != "" {
		text += ": " + kind
	}
	if !p.Required {
		if p.Default != "" {
			return text + " = " + p.Default
		}
		return text + "?"
	}
	return text
}

// signatureLine is a signature in lines of some width.
func signatureLine(sig *declare.Signature, width int) string {
	var b strings.Builder
	line := sig.Name + "("
	sep := ""
	put := func(text string) {
		if len(line)+len(sep)+len(text) > width {
			b.WriteString(line + strings.TrimRight(sep, " ") + "\n")
			line, sep = "    ", ""
		}
		line += sep + text
		sep = ", "
	}
	if sig.Named {
		put("name")
	}
	for _, p := range sig.Params {
		put(paramText(p))
	}
	return b.String() + line + ")"
}
