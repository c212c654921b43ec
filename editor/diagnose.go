package editor

import (
	"context"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/core/code"
	"kasbah/core/estate"
	"kasbah/core/form"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// finding is a problem, and in which environments it holds.
type finding struct {
	*problem.Problem
	envs []string
}

// check checks all estates and tells the client what is wrong.
func (s *server) check(ctx context.Context) {
	s.mu.Lock()
	env := s.env
	if env == "" {
		env = s.o.Env
	}
	var projects []*project
	for _, dir := range value.Keys(s.projects) {
		projects = append(projects, s.projects[dir])
	}
	s.mu.Unlock()
	for _, p := range projects {
		found := p.check(ctx, env)
		if ctx.Err() != nil {
			return
		}
		s.publish(ctx, p, found)
	}
}

// merged are the problems of all environments, each once.
func merged(found []found) []finding {
	at := map[string]int{}
	var out []finding
	for _, f := range found {
		for _, one := range f.problems {
			key := strings.Join([]string{string(one.Level), one.Error(), one.Ward, one.Hint}, "\x00")
			i, known := at[key]
			if !known {
				i = len(out)
				at[key] = i
				out = append(out, finding{Problem: one})
			}
			if !slices.Contains(out[i].envs, f.env) {
				out[i].envs = append(out[i].envs, f.env)
			}
		}
	}
	return out
}

func (s *server) publish(ctx context.Context, p *project, found []found) {
	by := map[string][]protocol.Diagnostic{}
	for _, f := range merged(found) {
		uri, d := s.diagnostic(p, f, len(found) > 1)
		by[uri] = append(by[uri], d)
	}
	prefix := uriOf(p.dir) + "/"
	s.mu.Lock()
	for uri := range s.published {
		if by[uri] == nil && strings.HasPrefix(uri, prefix) {
			by[uri] = []protocol.Diagnostic{}
		}
	}
	for uri, list := range by {
		if len(list) > 0 {
			s.published[uri] = true
		} else {
			delete(s.published, uri)
		}
	}
	s.mu.Unlock()
	for _, uri := range value.Keys(by) {
		if err := s.conn.Notify(ctx, "textDocument/publishDiagnostics", protocol.PublishDiagnosticsParams{URI: uri,
			Diagnostics: by[uri]}); err != nil {
			return // the client is gone, and its connection says so
		}
	}
}

// uri is where a file of a problem is.
func (p *project) uri(file string) string {
	if strings.HasPrefix(file, kitPrefix) {
		p.known.RLock()
		for _, v := range p.views {
			if at := v.onDisk(file); at != "" {
				file = at
				break
			}
		}
		p.known.RUnlock()
	}
	if !filepath.IsAbs(file) {
		file = filepath.Join(p.dir, filepath.FromSlash(file))
	}
	return uriOf(file)
}

// span is the word at a place of a file, as a range.
func (p *project) span(file string, line, column int) protocol.Range {
	f := p.file(file)
	if f == nil || line == 0 {
		return protocol.Range{}
	}
	if column == 0 {
		at := f.Offset(line, 1)
		return rangeOf(f, code.Span{From: at, To: f.LineStart(line)})
	}
	return rangeOf(f, f.SpanAt(line, column))
}

// unknownName is the name in the message of an argument that there is not.
var unknownName = form.Of(`has no (?:attribute|input) "([^"]+)"`)

// spanOf is the word on a line that is spelt so and stands closest to a place; otherwise for none.
func (p *project) spanOf(file, name string, line, column int, otherwise protocol.Range) protocol.Range {
	f := p.file(file)
	if f == nil {
		return otherwise
	}
	span, ok := f.Nearest(name, f.Offset(line, column))
	if !ok {
		return otherwise
	}
	r := rangeOf(f, span)
	if int(r.Start.Line) != line-1 {
		return otherwise
	}
	return r
}

// place is the file of a problem below the estate's folder, where it is in there.
func (p *project) place(file string) string {
	if path, ok := pathOf(p.uri(file)); ok {
		if rel, err := filepath.Rel(p.dir, path); err == nil && !strings.HasPrefix(rel, "..") {
			return filepath.ToSlash(rel)
		}
	}
	return file
}

func (s *server) diagnostic(p *project, f finding, several bool) (uri string, d protocol.Diagnostic) {
	file := f.File
	if file == "" {
		file = estate.File
	}
	message := f.Message
	if f.Address != "" {
		message = f.Address + ": " + message
	}
	if f.Hint != "" {
		message += "\n" + f.Hint
	}
	if several {
		message += "\n(in " + strings.Join(f.envs, ", ") + ")"
	}
	severity := map[problem.Level]protocol.DiagnosticSeverity{problem.Wrong: protocol.DiagnosticSeverityError,
		problem.Warning: protocol.DiagnosticSeverityWarning, problem.Note: protocol.DiagnosticSeverityInformation}[f.Level]
	at := p.span(p.place(file), f.Line, f.Column)
	if m := unknownName().FindStringSubmatch(f.Message); m != nil { // the name, not the value that it is given
		at = p.spanOf(p.place(file), m[1], f.Line, f.Column, at)
	}
	d = protocol.Diagnostic{Range: at, Severity: &severity, Source: ptr("kasbah"),
		Message: message, Data: actionData{Address: value.InWard(f.Ward, f.Address), Path: f.Path, Rule: f.Rule, Hint: f.Hint}}
	if f.Rule != "" {
		d.Code = &protocol.IntegerOrString{Value: f.Rule}
	}
	for _, via := range f.Via {
		text, at, ok := strings.Cut(via, " ")
		if text == "rule" {
			text, at = "the rule", strings.TrimPrefix(at, "at ")
		}
		i := strings.LastIndexByte(at, ':')
		if !ok || i < 0 {
			continue
		}
		line, err := strconv.Atoi(at[i+1:])
		if err != nil {
			continue
		}
		where := map[string]string{"by": "called here", "of": "of this", "for": "for this"}[text]
		if where == "" {
			where = text
		}
		d.RelatedInformation = append(d.RelatedInformation, protocol.DiagnosticRelatedInformation{Message: where,
			Location: protocol.Location{URI: p.uri(at[:i]), Range: p.span(p.place(at[:i]), line, 0)}})
	}
	return p.uri(file), d
}

// actionData is what a diagnostic keeps for the actions that mend it.
type actionData struct {
	Address string `json:"address,omitempty"`
	Path    string `json:"path,omitempty"`
	Rule    string `json:"rule,omitempty"`
	Hint    string `json:"hint,omitempty"`
}
