package openapi

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"kasbah/core/form"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// template is a path with parameters, such as /networks/{network}/subnets.
type template struct {
	path   string
	params []string
}

var paramPattern = form.Of(`\{([^{}]*)\}`)

func parseTemplate(path string) (template, error) {
	t := template{path: path}
	for _, m := range paramPattern().FindAllStringSubmatch(path, -1) {
		if m[1] == "" || slices.Contains(t.params, m[1]) {
			return t, fmt.Errorf("the path %s names a parameter twice, or none", path)
		}
		t.params = append(t.params, m[1])
	}
	return t, nil
}

// fill puts values in place of the parameters, in their order.
func (t template) fill(values []string) string {
	i := -1
	return paramPattern().ReplaceAllStringFunc(t.path, func(string) string {
		i++
		return url.PathEscape(values[i])
	})
}

// parentParams are the parameters of a type's paths, but for those that identify the thing
// in them.
func (info *typeInfo) parentParams() []string {
	out := slices.Clone(info.list.params)
	for _, p := range info.item.params[:len(info.item.params)-info.ids] {
		if !slices.Contains(out, p) {
			out = append(out, p)
		}
	}
	return out
}

// within reads the values of path parameters out of a thing's attributes.
func within(params []string, m value.Map) ([]string, error) {
	out := make([]string, len(params))
	for i, p := range params {
		if out[i] = text(m[p]); out[i] == "" {
			return nil, fmt.Errorf("%s is not known, which its path needs", p)
		}
	}
	return out, nil
}

// identity is what identifies a thing beyond its type: what the API calls it,
// or where its path needs more than that, all parts of the path with a slash
// between them.
func (info *typeInfo) identity(values []string) string {
	if len(values) == 1 {
		return values[0]
	}
	parts := make([]string, len(values))
	for i, v := range values {
		parts[i] = url.PathEscape(v)
	}
	return strings.Join(parts, "/")
}

// parts takes an identity apart into the values of the item's parameters.
func (info *typeInfo) parts(id string) ([]string, error) {
	n := len(info.item.params)
	if n == 1 {
		return []string{id}, nil
	}
	parts := strings.Split(id, "/")
	if len(parts) != n {
		return nil, fmt.Errorf("%q does not identify it: that takes %s", id, strings.Join(info.item.params, "/"))
	}
	for i := range parts {
		v, err := url.PathUnescape(parts[i])
		if err != nil {
			return nil, fmt.Errorf("%q does not identify it: %w", id, err)
		}
		parts[i] = v
	}
	return parts, nil
}

// place is the path of one thing.
func (info *typeInfo) place(id string) (string, error) {
	parts, err := info.parts(id)
	if err != nil {
		return "", err
	}
	return info.item.fill(parts), nil
}

// idAt is what identifies the thing at a path, below whatever the API's own URL has before it.
func (info *typeInfo) idAt(place string) (string, bool) {
	u, err := url.Parse(place)
	if err != nil {
		return "", false
	}
	own, at := strings.Split(strings.Trim(info.item.path, "/"), "/"), strings.Split(strings.Trim(u.EscapedPath(), "/"),
		"/")
	if len(at) < len(own) {
		return "", false
	}
	at = at[len(at)-len(own):]
	var values []string
	for i, part := range own {
		if !paramPattern().MatchString(part) {
			if at[i] != part {
				return "", false
			}
			continue
		}
		before, after, _ := strings.Cut(part, paramPattern().FindString(part))
		rest, begins := strings.CutPrefix(at[i], before)
		rest, ends := strings.CutSuffix(rest, after)
		v, err := url.PathUnescape(rest)
		if !begins || !ends || err != nil || v == "" {
			return "", false
		}
		values = append(values, v)
	}
	return info.identity(values), len(values) == len(info.item.params)
}

// typed is a path's text as a value of an attribute's kind.
func typed(a *schema.Attribute, text string) any {
	if a != nil && a.Kind != schema.Text && a.Kind != schema.Any {
		if v, err := value.Parse([]byte(text)); err == nil {
			return v
		}
	}
	return text
}

// text is a value as it is in a path or a header: a text is itself.
func text(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	if v == nil {
		return ""
	}
	return value.Plain(v)
}
