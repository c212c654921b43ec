package openapi

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"kasbah/core/driver"
	"kasbah/core/value"
)

// pages walks a list, fetching the next page while the caller works on this
// one where its place can be known. skim may be nil.
func (d *Driver) pages(ctx context.Context, path string, query url.Values, l *listing, skim *skimmer,
	each func(item) bool, failed func(error)) {
	type page struct {
		r   *reply
		err error
	}
	how := l.how
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	fetch := func(path string) chan page {
		c := make(chan page, 1)
		go func() {
			r, err := d.get(ctx, path)
			c <- page{r, err}
		}()
		return c
	}
	at := newPlace(path, query, how)
	coming := fetch(at.String())
	seen := map[string]bool{} // first things of pages
	for range maxPages {
		p := <-coming
		if p.err != nil {
			failed(p.err)
			return
		}
		next := p.r.leads(nextLink(p.r.header))
		if next != "" && how == nil {
			coming = fetch(next)
		}
		items, v, err := readPage(p.r.body, l, skim)
		if err != nil {
			failed(err)
			return
		}
		// A list ends at an empty page, and at one that was there before, whatever the
		// server says comes next: some say so for ever.
		if len(items) == 0 || seen[items[0].key()] {
			return
		}
		seen[items[0].key()] = true
		if how != nil {
			if next = at.next(p.r, v, len(items)); next != "" {
				coming = fetch(next)
			}
		}
		for _, i := range items {
			if !each(i) {
				return
			}
		}
		if next == "" {
			return
		}
	}
	failed(&driver.Error{Message: fmt.Sprintf("the list at %s does not end", path)})
}

// place is a page of a list.
type place struct {
	path  string
	query url.Values
	how   *pagesExtension
	skip  int // things before this page
	page  int // its number
	seen  string
}

func newPlace(path string, query url.Values, how *pagesExtension) *place {
	p := &place{path: path, query: url.Values{}, how: how, page: 1}
	for k, v := range query {
		p.query[k] = v
	}
	if how != nil && how.Limit != "" {
		p.query.Set(how.Limit, strconv.Itoa(cmp.Or(how.Size, 100)))
	}
	return p
}

// String is the page's URL, relative to the API's.
func (p *place) String() string {
	if len(p.query) == 0 {
		return p.path
	}
	return p.path + "?" + p.query.Encode()
}

// next is the URL of the page after one that holds n things; "" after the last.
func (p *place) next(r *reply, body any, n int) string {
	how := p.how
	switch {
	case how.Next != "":
		next, _ := dig(body, how.Next).(string)
		return r.leads(next)
	case how.Cursor != "":
		cursor := text(dig(body, how.Cursor))
		if cursor == "" || cursor == p.seen {
			return ""
		}
		p.seen = cursor
		p.query.Set(cmp.Or(how.Ask, "cursor"), cursor)
	case n == 0:
		return ""
	case how.Offset != "":
		p.skip += n
		p.query.Set(how.Offset, strconv.Itoa(p.skip))
	case how.Page != "":
		p.page++
		p.query.Set(how.Page, strconv.Itoa(p.page))
	default:
		return r.leads(nextLink(r.header))
	}
	return p.String()
}

// readPage reads the items of a page, and what else it says where it was read whole.
func readPage(body []byte, l *listing, skim *skimmer) ([]item, any, error) {
	if skim != nil {
		if items, err := skim.page(body); err == nil {
			return items, nil, nil
		}
	}
	v, err := value.Parse(body)
	if err != nil {
		return nil, nil, &driver.Error{Message: "the cloud's list is not JSON: " + err.Error()}
	}
	items, err := itemsOf(v, l)
	return items, v, err
}

// listing is how a list is read.
type listing struct {
	how *pagesExtension
	id  string // the property that identifies a thing
	ids bool   // lists may hold no more than what identifies each
}

// itemsOf reads a page: an array, or an object with one array in it.
func itemsOf(v any, l *listing) ([]item, error) {
	how := l.how
	list, ok := v.([]any)
	m, isMap := v.(map[string]any)
	switch {
	case how != nil && how.Items != "":
		found := dig(v, how.Items)
		if list, ok = found.([]any); found == nil && isMap { // some leave an empty list out
			ok = true
		}
	case isMap:
		for _, k := range value.Keys(m) {
			if l, isList := m[k].([]any); isList {
				list, ok = l, true
			}
		}
	}
	if !ok {
		return nil, &driver.Error{Message: "the cloud's list holds no array"}
	}
	out := make([]item, len(list))
	for i := range list {
		if out[i].whole, ok = list[i].(map[string]any); !ok && l.ids && text(list[i]) != "" {
			out[i].whole, ok = value.Map{l.id: list[i]}, true
		}
		if !ok {
			return nil, &driver.Error{Message: "the cloud's list holds something else than objects"}
		}
	}
	return out, nil
}

// nextLink is where a Link header (RFC 8288) says that the next page is.
func nextLink(h http.Header) string {
	for _, line := range h.Values("Link") {
		for _, link := range strings.Split(line, ",") {
			target, params, ok := strings.Cut(strings.TrimSpace(link), ">")
			if !ok || !strings.HasPrefix(target, "<") {
				continue
			}
			for _, p := range strings.Split(params, ";") {
				if k, v, _ := strings.Cut(strings.TrimSpace(p), "="); k == "rel" && strings.Trim(v, `"`) == "next" {
					return target[1:]
				}
			}
		}
	}
	return ""
}
