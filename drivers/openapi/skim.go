package openapi

import (
	"bytes"
	"context"
	"errors"
	"iter"

	"github.com/go-json-experiment/json/jsontext"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// Skim is List that reads no more than id and tag of what the caller has seen enough
// of. Lists that are below parents, or say otherwise how they are read, are read
// whole.
func (d *Driver) Skim(ctx context.Context, typ string, enough func(id, tag string) bool) iter.Seq2[driver.Live, error] {
	t, err := d.typ(typ)
	if err == nil && t.tag != "" && t.gone == nil && t.parent == "" && (t.Lists == "summary" || t.Lists == "ids") {
		whole := t
		whole.typeInfo = &typeInfo{}
		*whole.typeInfo = *t.typeInfo
		whole.Lists = ""
		return d.wholly(ctx, t, d.collection(ctx, whole, nil, nil), func(l driver.Live) bool {
			return l.Tag != "" &&
				enough(l.ID, l.Tag)
		})
	}
	if err != nil || t.Unlisted || t.Unshown || t.parent != "" || t.whole != nil || t.gone != nil || t.Pages != nil ||
		t.tag == "" || len(t.item.params) != 1 {
		return d.List(ctx, typ)
	}
	return func(yield func(driver.Live, error) bool) {
		skim := &skimmer{id: t.ID, tag: t.tag,
			enough: func(id, tag string) bool { return enough(t.identity([]string{id}), quoted(tag)) }}
		d.pages(ctx, t.list.fill(nil), nil, t.listing(), skim, func(i item) bool {
			if i.whole == nil {
				return yield(driver.Live{ID: t.identity([]string{i.id}), Tag: quoted(i.tag)}, nil)
			}
			l, err := t.live(i.whole, "", nil)
			return yield(l, err) && err == nil
		}, func(err error) { yield(driver.Live{}, err) })
	}
}

// item is one of a page: whole, or no more than its id and tag.
type item struct {
	whole   value.Map
	id, tag string
}

// key tells a thing in a list from others.
func (i item) key() string {
	if i.whole == nil {
		return i.id
	}
	return string(value.Encode(i.whole))
}

// skimmer reads pages, and of what it has seen enough of no more than id and tag.
type skimmer struct {
	id, tag string // the properties
	enough  func(id, tag string) bool
}

var errUnusual = errors.New("not a page that can be skimmed")

// page reads an array of objects, or an object with one array in it. An error says
// that the page must be read in the ordinary way, which finds out what is wrong.
func (s *skimmer) page(body []byte) (items []item, err error) {
	dec := jsontext.NewDecoder(bytes.NewBuffer(body), jsontext.AllowDuplicateNames(true))
	switch dec.PeekKind() {
	case '[':
		items, err = s.array(dec, body)
	case '{':
		_, err = dec.ReadToken()
		for arrays := 0; err == nil && dec.PeekKind() != '}'; {
			if _, err = dec.ReadToken(); err != nil { // the property's name
				break
			}
			if dec.PeekKind() != '[' {
				err = dec.SkipValue()
				continue
			}
			if arrays++; arrays > 1 {
				return nil, errUnusual
			}
			items, err = s.array(dec, body)
		}
	default:
		err = errUnusual
	}
	if err == nil && items == nil {
		err = errUnusual
	}
	return items, err
}

func (s *skimmer) array(dec *jsontext.Decoder, body []byte) ([]item, error) {
	items := []item{}
	_, err := dec.ReadToken()
	for err == nil && dec.PeekKind() != ']' {
		var i item
		if i, err = s.item(dec, body); err == nil {
			items = append(items, i)
		}
	}
	if err == nil {
		_, err = dec.ReadToken()
	}
	return items, err
}

func (s *skimmer) item(dec *jsontext.Decoder, body []byte) (i item, err error) {
	if dec.PeekKind() != '{' {
		return i, errUnusual
	}
	if _, err = dec.ReadToken(); err != nil {
		return i, err
	}
	from := dec.InputOffset() - 1
	for dec.PeekKind() != '}' {
		name, err := dec.ReadToken()
		if err != nil {
			return i, err
		}
		var into *string
		switch name.String() {
		case s.id:
			into = &i.id
		case s.tag:
			into = &i.tag
		default:
			if err := dec.SkipValue(); err != nil {
				return i, err
			}
			continue
		}
		v, err := dec.ReadToken()
		if err != nil {
			return i, err
		}
		if v.Kind() != '"' && v.Kind() != '0' {
			return i, errUnusual
		}
		*into = v.String()
	}
	if _, err = dec.ReadToken(); err != nil || i.id != "" && i.tag != "" && s.enough(i.id, i.tag) {
		return i, err
	}
	whole, err := value.Parse(body[from:dec.InputOffset()])
	if err != nil {
		return i, err
	}
	i.whole, _ = whole.(map[string]any)
	return i, nil
}
