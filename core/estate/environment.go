package estate

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// environment is what one section [env.NAME] says. What it takes from another one is in that.
type environment struct {
	section  string       // env.trial, or env.pr-* of a pattern
	like     string       // the environment that it takes everything from; "" for none
	base     *environment // that environment
	former   string       // that it was renamed from; "" for none
	ends     string       // the span after its last run when it is to go; "" where the section does not say
	inputs   value.Map
	wards    map[string]value.Map // inputs by ward
	ledger   Settings
	approval Settings
	drivers  map[string]Settings
	kits     map[string]KitSource
	secrets  map[string]SecretSource
	writers  map[string][]any  // who may write a ward's ledger, where it says so of that ward
	adopt    map[string]string // ids of things by the address with its ward that adopts each
	watch    watched
	watches  map[string]watched // by ward
}

// Environments lists the environments that have a section of their own, in byte order.
func (e *Estate) Environments() []string { return value.Keys(e.envs) }

// Patterns lists the patterns of environments, such as pr-*, in byte order.
func (e *Estate) Patterns() []string { return value.Keys(e.patterns) }

// HasEnvironment reports whether env has a section, or matches a pattern.
func (e *Estate) HasEnvironment(env string) bool { return e.environment(env) != nil }

// environment is the section that is for env: its own one, else the pattern that leaves the least open; nil
// for none.
func (e *Estate) environment(env string) *environment {
	if en := e.envs[env]; en != nil || !IsName(env) {
		return en
	}
	var best string
	for _, pattern := range e.Patterns() {
		if _, fits := partOf(pattern, env); fits && len(pattern) > len(best) {
			best = pattern
		}
	}
	return e.patterns[best]
}

// partOf is the text that * of a pattern stands for in a name, and whether the pattern fits. It stands for
// one character at least.
func partOf(pattern, name string) (string, bool) {
	before, after, open := strings.Cut(pattern, "*")
	if !open || len(name) <= len(before)+len(after) || !strings.HasPrefix(name, before) ||
		!strings.HasSuffix(name, after) {
		return "", false
	}
	return name[len(before) : len(name)-len(after)], true
}

// Made reports whether an environment has no section of its own: a pattern makes it.
func (e *Estate) Made(env string) bool { return e.envs[env] == nil && e.environment(env) != nil }

// PatternOf is the pattern that makes an environment; "" for one with a section of its own.
func (e *Estate) PatternOf(env string) string {
	if !e.Made(env) {
		return ""
	}
	return e.environment(env).name()
}

// Part is what * stands for in the name of an environment that a pattern makes; "" for one with a section of
// its own.
func (e *Estate) Part(env string) string {
	part, _ := partOf(e.PatternOf(env), env)
	return part
}

// sections are what is said of env, weakest first: what it is like comes before itself.
func (e *Estate) sections(env string) []*environment { return e.environment(env).all() }

// all is a section and those that it takes from, weakest first.
func (en *environment) all() []*environment {
	var out []*environment
	for ; en != nil; en = en.base {
		out = append(out, en)
	}
	slices.Reverse(out)
	return out
}

// name is that of the environment, or its pattern.
func (en *environment) name() string { return strings.TrimPrefix(en.section, "env.") }

// Ends is how long after its last run an environment is to go; 0 for one that stays.
func (e *Estate) Ends(env string) time.Duration {
	ends := ""
	for _, en := range e.sections(env) {
		ends = cmp.Or(en.ends, ends)
	}
	span, err := time.ParseDuration(ends)
	if err != nil { // never, or nothing is said: the text was checked when it was read
		return 0
	}
	return span
}

// LedgerNames are the names under which the ledgers of an environment are kept: those
// that they were begun under, where estate or environment were renamed since.
func (e *Estate) LedgerNames(env string) (estate, environment string) {
	estate, environment = cmp.Or(e.former, e.Name), env
	if en := e.envs[env]; en != nil {
		environment = cmp.Or(en.former, env)
	}
	return estate, environment
}

// At is where a dotted key of the file stands, or the nearest key above it. A key of an environment may stand
// where that takes it from.
func (e *Estate) At(key string) problem.Position {
	rest, isEnv := strings.CutPrefix(key, "env.")
	env, below, _ := strings.Cut(rest, ".")
	if !isEnv || e.environment(env) == nil {
		return e.file.position(key)
	}
	for en := e.environment(env); en != nil; en = en.base {
		if _, here := e.file.entries[join(en.section, below)]; here {
			return e.file.position(join(en.section, below))
		}
	}
	return e.file.position(join(e.environment(env).section, below))
}

// shown is a section as a person writes it: [env."pr-*".inputs].
func shown(section string) string {
	parts := strings.Split(section, ".")
	for i, part := range parts {
		if strings.Contains(part, "*") {
			parts[i] = `"` + part + `"`
		}
	}
	return "[" + strings.Join(parts, ".") + "]"
}

// environments reads the sections [env.NAME].
func (r *reader) environments(v any, e *Estate) {
	e.envs, e.patterns = map[string]*environment{}, map[string]*environment{}
	envs := r.table("env", v)
	for _, name := range value.Keys(envs) {
		en := r.environment(name, envs[name], e)
		if !strings.Contains(name, "*") {
			r.name("env."+name, name)
			e.envs[name] = en
			continue
		}
		if before, after, _ := strings.Cut(name, "*"); !IsName(before + "a" + after) {
			r.wrong("env."+name, "%q is not a valid pattern of environments: use a-z, 0-9, - and one *, such as \"pr-*\"", name)
		}
		e.patterns[name] = en
	}
	if len(envs) == 0 {
		r.wrong("env", "no environment: add a section such as [env.trial]")
	}
	for _, en := range r.sections(e) {
		if en.like == "" {
			continue
		}
		if en.base = e.envs[en.like]; en.base == nil {
			r.wrong(en.section+".like", "no environment is called %q", en.like).Hint = nearest.HintOr(en.like, e.Environments())
		}
	}
	for _, en := range r.sections(e) {
		seen := map[*environment]bool{}
		for at := en; at != nil; at = at.base {
			if seen[at] {
				r.wrong(en.section+".like", "%s is like itself, directly or through others", en.name())
				en.base = nil
				break
			}
			seen[at] = true
		}
	}
	for _, en := range r.sections(e) {
		if len(en.approval) > 0 {
			r.approval(en.section+".approval", e.approvalIn(en, nil))
		}
	}
}

// sections are all sections of environments, in byte order.
func (r *reader) sections(e *Estate) []*environment {
	var out []*environment
	for _, all := range []map[string]*environment{e.envs, e.patterns} {
		for _, name := range value.Keys(all) {
			out = append(out, all[name])
		}
	}
	return out
}

func (r *reader) environment(name string, v any, e *Estate) *environment {
	section := "env." + name
	t := r.table(section, v)
	r.known(section, t, namesOf("env.NAME")...)
	en := &environment{
		section: section,
		inputs:  r.table(section+".inputs", t["inputs"]),
		ledger:  r.ledger(section+".ledger", t["ledger"]), approval: r.table(section+".approval", t["approval"]),
		wards: map[string]value.Map{}, writers: map[string][]any{}, drivers: map[string]Settings{},
		kits: r.kits(section+".kits", t["kits"]), secrets: r.secrets(section+".secrets", t["secrets"]),
		adopt: r.adopt(section+".adopt", t["adopt"], e),
		watch: r.watch(section+".watch", t["watch"]), watches: map[string]watched{},
	}
	r.own(name, t, en)
	wards := r.table(section+".ward", t["ward"])
	for _, w := range value.Keys(wards) {
		at := section + ".ward." + w
		if !e.HasWard(w) {
			r.wrong(at, "no ward is called %q", w).Hint = nearest.Hint(w, e.Wards)
		}
		wt := r.table(at, wards[w])
		r.known(at, wt, namesOf("env.NAME.ward.WARD")...)
		en.watches[w] = r.watch(at+".watch", wt["watch"])
		en.wards[w] = r.table(at+".inputs", wt["inputs"])
		if list, ok := wt["writers"]; ok {
			r.writers(at+".writers", list)
			en.writers[w], _ = list.([]any)
		}
	}
	drivers := r.table(section+".drivers", t["drivers"])
	for _, d := range value.Keys(drivers) {
		at := section + ".drivers." + d
		if _, ok := e.drivers[d]; !ok {
			r.wrong(at, "no driver is called %q", d).Hint = nearest.Hint(d, e.Drivers())
		}
		en.drivers[d] = r.table(at, drivers[d])
	}
	return en
}

// own reads the keys that say what an environment is like, what it was called, and when it ends.
func (r *reader) own(name string, t map[string]any, en *environment) {
	isPattern := strings.Contains(name, "*")
	if v, ok := t["like"]; ok {
		if en.like, ok = v.(string); !ok || en.like == "" {
			r.wrong(en.section+".like", "like must be the name of an environment, such as like = \"trial\"")
		}
	}
	if v, ok := t["renamed_from"]; ok {
		if en.former = r.name(en.section+".renamed_from", v); isPattern {
			r.wrong(en.section+".renamed_from", "renamed_from is for one environment, and %q stands for several", name)
		}
	}
	if isPattern && len(en.adopt) > 0 {
		r.wrong(en.section+".adopt", "adopt is for one environment, and %q stands for several", name)
	}
	if v, ok := t["ends"]; ok {
		en.ends, _ = v.(string)
		span, err := time.ParseDuration(en.ends)
		if en.ends != never && (err != nil || span <= 0) {
			r.wrong(en.section+".ends", "ends is %s, and must be a time such as \"72h\", or \"never\"", value.Plain(v))
		}
	}
}

// adopt reads which things the addresses of an environment adopt.
func (r *reader) adopt(section string, v any, e *Estate) map[string]string {
	out := map[string]string{}
	t := r.table(section, v)
	for _, full := range value.Keys(t) {
		at := section + "." + full
		ward, _ := value.SplitWard(full)
		id, isText := t[full].(string)
		switch {
		case ward == "":
			r.wrong(at, "%s: an address that adopts names its ward, such as \"shore:%s\"", full, full)
		case !e.HasWard(ward):
			r.wrong(at, "no ward is called %q", ward).Hint = nearest.Hint(ward, e.Wards)
		case !isText || id == "":
			r.wrong(at, "%s must be the id of a thing, as a text", full)
		default:
			out[full] = id
		}
	}
	return out
}
