package estate

import (
	"path"
	"slices"
	"strings"
	"time"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Step is a program that has a say: [[step]].
type Step struct {
	Name     string
	At       []string // stages
	Run      []string // the program and its arguments
	Level    string   // warn or block
	Time     time.Duration
	Env      []string // names of variables that it gets besides the usual ones
	Envs     []string // patterns of environments; none for all
	Wards    []string // patterns of wards; none for all
	Position problem.Position
}

// Stages are those at which a step may run, in their order.
var Stages = []string{"declared", "proposed", "before-enact", "enacted", "surveyed"}

// stepTime is how long a step may take unless it says otherwise.
const stepTime = 5 * time.Minute

// For reports whether a step runs for some wards of an environment.
func (s *Step) For(env string, wards []string) bool {
	fits := func(patterns []string, name string) bool {
		return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool {
			ok, err := path.Match(p,
				name)
			return ok && err == nil
		})
	}
	return fits(s.Envs, env) && (len(wards) == 0 || slices.ContainsFunc(wards,
		func(w string) bool { return fits(s.Wards, w) }))
}

// steps reads the tables [[step]].
func (r *reader) steps(v any) []Step {
	var out []Step
	seen := map[string]bool{}
	for i, t := range r.tables("step", v) {
		at := nth("step", i)
		r.known(at, t, namesOf("step")...)
		s := r.step(at, t)
		if seen[s.Name] {
			r.wrong(at, "two steps are called %q", s.Name)
		}
		seen[s.Name] = true
		out = append(out, s)
	}
	return out
}

func (r *reader) step(section string, t value.Map) Step {
	s := Step{Level: "block", Time: stepTime, Position: r.file.position(section)}
	if s.Name, _ = t["name"].(string); !IsName(s.Name) {
		r.wrong(section+".name", "a step needs a name of a-z, 0-9 and -, starting with a letter")
	}
	s.At = r.texts(section+".at", t["at"], true)
	for _, stage := range s.At {
		if !slices.Contains(Stages, stage) {
			r.wrong(section+".at", "no stage is called %q", stage).Hint = nearest.HintOr(stage, Stages)
		}
	}
	if s.Run = r.texts(section+".run", t["run"], true); len(s.Run) > 0 && s.Run[0] == "" {
		r.wrong(section+".run", "run must begin with a program")
	}
	if v, ok := t["level"]; ok {
		if s.Level, _ = v.(string); s.Level != "warn" && s.Level != "block" {
			r.wrong(section+".level", "level is %s, and must be \"warn\" or \"block\"", value.Plain(v))
		}
	}
	if v, ok := t["time"]; ok {
		text, _ := v.(string)
		span, err := time.ParseDuration(text)
		if err != nil || span <= 0 {
			r.wrong(section+".time", "time is %s, and must be a time such as \"5m\"", value.Plain(v))
		}
		s.Time = span
	}
	s.Env = r.texts(section+".env", t["env"], false)
	for _, name := range s.Env {
		if strings.HasPrefix(name, "KASBAH_") || name == "" || strings.ContainsAny(name, "=*") {
			r.wrong(section+".env", "env must be a list of names of variables, and %q is not one that a step can get", name)
		}
	}
	only := r.table(section+".only", t["only"])
	r.known(section+".only", only, namesOf("step.only")...)
	s.Envs, s.Wards = r.texts(section+".only.env", only["env"], false), r.texts(section+".only.ward", only["ward"], false)
	for _, p := range slices.Concat(s.Envs, s.Wards) {
		if _, err := path.Match(p, ""); err != nil {
			r.wrong(section+".only", "%q is not a valid pattern", p)
		}
	}
	return s
}

// texts reads a list of texts.
func (r *reader) texts(key string, v any, needed bool) []string {
	name := key[strings.LastIndexByte(key, '.')+1:]
	list, ok := v.([]any)
	var out []string
	for _, x := range list {
		s, isText := x.(string)
		ok = ok && isText
		out = append(out, s)
	}
	if v != nil && !ok || needed && len(out) == 0 {
		r.wrong(key, "%s must be a list of texts", name)
	}
	return out
}

// tables reads an array of tables.
func (r *reader) tables(section string, v any) []value.Map {
	var list []any
	switch v := v.(type) {
	case nil:
	case []map[string]any:
		for _, t := range v {
			list = append(list, t)
		}
	case []any:
		list = v
	default:
		r.wrong(section, "%s must be tables, each as [[%s]]", section, section)
	}
	var out []value.Map
	for _, item := range list {
		out = append(out, r.table(section, item))
	}
	return out
}
