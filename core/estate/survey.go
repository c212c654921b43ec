package estate

import (
	"strings"

	"kasbah/core/value"
)

// Ignored is a pattern of addresses and a path below which a survey tells no difference, as
// [survey] ignore lists them.
type Ignored struct {
	Pattern string
	Path    value.Path // none for everything of a resource
}

// survey reads the table [survey].
func (r *reader) survey(v any) []Ignored {
	t := r.table("survey", v)
	r.known("survey", t, namesOf("survey")...)
	list, ok := t["ignore"].([]any)
	if t["ignore"] != nil && !ok {
		r.wrong("survey.ignore", "ignore must be a list of texts, such as \"medina.machine/** state\"")
	}
	var out []Ignored
	for _, item := range list {
		text, _ := item.(string)
		words := strings.Fields(text)
		if len(words) == 0 || len(words) > 2 {
			r.wrong("survey.ignore", "ignore must list a pattern of addresses and a path, such as "+
				"\"medina.machine/** state\", not %s", value.Plain(item))
			continue
		}
		one := Ignored{Pattern: words[0]}
		if len(words) == 2 {
			path, err := value.ParsePath(words[1])
			if err != nil {
				r.wrong("survey.ignore", "%q is not an attribute path", words[1])
				continue
			}
			one.Path = path
		}
		out = append(out, one)
	}
	return out
}
