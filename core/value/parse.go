package value

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"
)

// Parse reads any JSON document of another program's: nothing in it is pending. Of a name that
// is given twice the last one counts, and bytes that are not UTF-8 are replaced, as
// encoding/json has it. What follows the document is not looked at.
func Parse(body []byte) (any, error) { return parse(body, false) }

// parse reads a document: ours, which may hold pending values and names with one more "$", or another's.
func parse(body []byte, ours bool) (any, error) {
	p := parsers.Get().(*parser)
	p.ours = ours
	p.dec.Reset(bytes.NewBuffer(body), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	v, err := p.value()
	p.dec.Reset(&bytes.Buffer{}) // it holds the document no more
	parsers.Put(p)
	if err != nil {
		return nil, errors.New(strings.TrimPrefix(err.Error(), "jsontext: "))
	}
	return v, nil
}

// parsers are used again: most documents are small, and their names much the same.
var parsers = sync.Pool{New: func() any { return &parser{dec: jsontext.NewDecoder(&bytes.Buffer{}), names: map[string]string{}} }}

type parser struct {
	dec   *jsontext.Decoder
	names map[string]string // as they are written, each once
	ours  bool
}

// mostNames bounds the names that are kept: where all of them differ, that saves nothing.
const mostNames = 10_000

func (p *parser) value() (any, error) {
	switch p.dec.PeekKind() {
	case '{':
		if _, err := p.dec.ReadToken(); err != nil {
			return nil, err
		}
		m, pending := Map{}, []byte(nil)
		for p.dec.PeekKind() != '}' {
			name, err := p.name()
			if err != nil {
				return nil, err
			}
			if p.ours && name == pendingKey {
				raw, err := p.dec.ReadValue()
				if err != nil {
					return nil, err
				}
				pending = bytes.Clone(raw) // the decoder uses its place again
				continue
			}
			if p.ours {
				name = strings.TrimPrefix(name, "$")
			}
			if m[name], err = p.value(); err != nil {
				return nil, err
			}
		}
		if _, err := p.dec.ReadToken(); err != nil || pending == nil {
			return m, err
		}
		if len(m) > 0 { // Append writes such a name of a map with one more "$"
			return nil, fmt.Errorf("%q stands beside other names", pendingKey)
		}
		return decodePending(pending)
	case '[':
		if _, err := p.dec.ReadToken(); err != nil {
			return nil, err
		}
		list := []any{}
		for p.dec.PeekKind() != ']' {
			v, err := p.value()
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		_, err := p.dec.ReadToken()
		return list, err
	}
	tok, err := p.dec.ReadToken()
	if err != nil {
		return nil, err
	}
	switch tok.Kind() {
	case '"':
		return tok.String(), nil
	case 't', 'f':
		return tok.Bool(), nil
	case 'n':
		return nil, nil
	case '0':
		return Normal(json.Number(tok.String()))
	}
	return nil, fmt.Errorf("%s is where a value belongs", tok)
}

func (p *parser) name() (string, error) {
	raw, err := p.dec.ReadValue()
	if err != nil {
		return "", err
	}
	if name, known := p.names[string(raw)]; known {
		return name, nil
	}
	unquoted, err := jsontext.AppendUnquote(nil, raw)
	name := string(unquoted)
	if err != nil && !bytes.ContainsRune(unquoted, '\uFFFD') { // bytes that are not UTF-8 are replaced, and told
		return "", err
	}
	if len(p.names) < mostNames {
		p.names[string(raw)] = name
	}
	return name, nil
}
