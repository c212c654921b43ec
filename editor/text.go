package editor

import (
	"context"
	"net/url"
	"path/filepath"
	"runtime"
	"strings"
	"unicode/utf8"

	protocol "github.com/tliron/glsp/protocol_3_16"

	"kasbah/core/code"
)

// document is a text that the client has open, or a file.
type document struct {
	project *project
	path    string // below the estate's folder, with slashes
	uri     string
}

func pathOf(uri string) (string, bool) {
	u, err := url.Parse(uri)
	if err != nil || u.Scheme != "file" {
		return "", false
	}
	path := u.Path
	if runtime.GOOS == "windows" {
		path = strings.TrimPrefix(path, "/")
	}
	return filepath.FromSlash(path), true
}

func uriOf(path string) string {
	path = filepath.ToSlash(path)
	if !strings.HasPrefix(path, "/") {
		path = "/" + path
	}
	return (&url.URL{Scheme: "file", Path: path}).String()
}

func (s *server) addRoot(uri string) {
	if path, ok := pathOf(uri); ok {
		s.roots = append(s.roots, path)
	}
}

// find is the document behind a URI; nil for what is not in an estate.
func (s *server) find(uri string) *document {
	path, ok := pathOf(uri)
	if !ok {
		return nil
	}
	p := s.projectOf(filepath.Dir(path))
	if p == nil {
		return nil
	}
	real := path
	if r, err := filepath.EvalSymlinks(filepath.Dir(path)); err == nil {
		real = filepath.Join(r, filepath.Base(path))
	}
	rel, err := filepath.Rel(p.dir, real)
	if err != nil || strings.HasPrefix(rel, "..") {
		return nil
	}
	return &document{project: p, path: filepath.ToSlash(rel), uri: uri}
}

// at is the document of a position, its text, and the position as an offset; nil for what has no text.
func (s *server) at(p protocol.TextDocumentPositionParams) (*document, *code.File, int) {
	d, f := s.text(p.TextDocument.URI)
	if f == nil {
		return nil, nil, 0
	}
	return d, f, offset(f, p.Position)
}

func (s *server) text(uri string) (*document, *code.File) {
	d := s.find(uri)
	if d == nil {
		return nil, nil
	}
	f := d.project.file(d.path)
	if f == nil {
		return nil, nil
	}
	return d, f
}

// offset is a position of the protocol, which counts UTF-16, in bytes.
func offset(f *code.File, p protocol.Position) int {
	at, end := f.LineStart(int(p.Line)), f.LineStart(int(p.Line)+1)
	for units := int(p.Character); units > 0 && at < end && f.Body[at] != '\n'; {
		r, size := utf8.DecodeRune(f.Body[at:])
		units--
		if r > 0xffff {
			units--
		}
		at += size
	}
	return at
}

func position(f *code.File, at int) protocol.Position {
	at = max(0, min(at, len(f.Body)))
	line, from := f.Line(at)
	units := 0
	for i := from; i < at; {
		r, size := utf8.DecodeRune(f.Body[i:])
		units++
		if r > 0xffff {
			units++
		}
		i += size
	}
	return protocol.Position{Line: uint32(line), Character: uint32(units)}
}

func rangeOf(f *code.File, s code.Span) protocol.Range {
	return protocol.Range{Start: position(f, s.From), End: position(f, s.To)}
}

func (s *server) didOpen(_ context.Context, p *protocol.DidOpenTextDocumentParams) (any, error) {
	if d := s.find(p.TextDocument.URI); d != nil {
		d.project.setText(d.path, []byte(p.TextDocument.Text))
		s.poke()
	}
	return nil, nil
}

func (s *server) didChange(_ context.Context, p *protocol.DidChangeTextDocumentParams) (any, error) {
	d := s.find(p.TextDocument.URI)
	if d == nil {
		return nil, nil
	}
	for _, change := range p.ContentChanges {
		switch c := change.(type) {
		case protocol.TextDocumentContentChangeEventWhole:
			d.project.setText(d.path, []byte(c.Text))
		case protocol.TextDocumentContentChangeEvent:
			f := d.project.lines(d.path)
			if c.Range == nil || f == nil {
				d.project.setText(d.path, []byte(c.Text))
				continue
			}
			from, to := offset(f, c.Range.Start), offset(f, c.Range.End)
			if to < from {
				from, to = to, from
			}
			body := make([]byte, 0, len(f.Body)+len(c.Text))
			body = append(append(append(body, f.Body[:from]...), c.Text...), f.Body[to:]...)
			d.project.setText(d.path, body)
		}
	}
	s.poke()
	return nil, nil
}

func (s *server) didClose(_ context.Context, p *protocol.DidCloseTextDocumentParams) (any, error) {
	if d := s.find(p.TextDocument.URI); d != nil {
		d.project.dropText(d.path)
		s.poke()
	}
	return nil, nil
}

func (s *server) didSave(_ context.Context, p *protocol.DidSaveTextDocumentParams) (any, error) {
	if d := s.find(p.TextDocument.URI); d != nil {
		d.project.fileMoved(d.path)
		s.poke()
	}
	return nil, nil
}

func ptr[T any](v T) *T { return &v }
