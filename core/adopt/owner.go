package adopt

import (
	"strings"

	"kasbah/core/value"
)

// Owners tells things of one cloud apart that several environments share: by the environment's name
// in their own names, else by what they refer to and what refers to them. What tells nothing is of
// the first. The keys are `TYPE ID`.
func Owners(things []Thing, envs []string) map[string]string {
	out := make(map[string]string, len(things))
	at := make(map[string]Thing, len(things))
	for _, t := range things {
		at[thingKey(t.Type.Name, t.ID)] = t
		names, _ := identityOf(t.Type)
		for _, name := range append([]string{"name"}, names...) {
			if s, ok := t.Attributes[name].(string); ok && out[thingKey(t.Type.Name, t.ID)] == "" {
				if env := namedIn(s, envs); env != "" {
					out[thingKey(t.Type.Name, t.ID)] = env
				}
			}
		}
	}
	for some := true; some; { // from what is known to what refers to it, and back
		some = false
		for _, t := range things {
			key := thingKey(t.Type.Name, t.ID)
			for _, to := range references(t) {
				if _, there := at[to]; !there {
					continue
				}
				switch {
				case out[key] == "" && out[to] != "":
					out[key], some = out[to], true
				case out[key] != "" && out[to] == "":
					out[to], some = out[key], true
				}
			}
		}
	}
	for key := range at {
		if out[key] == "" {
			out[key] = envs[0]
		}
	}
	return out
}

// namedIn is the one environment whose name stands in a text as a word of its own; "" for none, and
// for several.
func namedIn(s string, envs []string) string {
	found := ""
	words := strings.FieldsFunc(s, func(c rune) bool {
		return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9')
	})
	for _, env := range envs {
		for _, w := range words {
			if w == env {
				if found != "" && found != env {
					return ""
				}
				found = env
			}
		}
	}
	return found
}

// references are the things that a thing refers to, as `TYPE ID`.
func references(t Thing) []string {
	var out []string
	for _, name := range value.Keys(t.Attributes) {
		a := t.Type.Attribute(name)
		if a == nil || a.Output {
			continue
		}
		refer(t.Attributes[name], a, func(typ, id string) { out = append(out, thingKey(typ, id)) })
	}
	return out
}
