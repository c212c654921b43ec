package estate

import (
	"bytes"
	"errors"
	"path/filepath"
	"slices"
	"sort"
	"strings"

	"github.com/BurntSushi/toml"

	"kasbah/core/form"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// KitSource is where [kits] says that a kit comes from: a folder, or a tag of
// a git repository.
type KitSource struct {
	Name     string
	Folder   string // relative to the estate, or absolute; "" for a repository
	Git      string // as git clone takes it
	Tag      string
	Path     string // of the kit's folder inside the repository; "" for its root
	Position problem.Position
}

// String is the source as people read it.
func (k KitSource) String() string {
	if k.Git == "" {
		return k.Folder
	}
	s := k.Git
	if k.Path != "" {
		s += " " + k.Path
	}
	return s + " at " + k.Tag
}

// InEstate reports whether the kit is a folder of the estate itself. It is
// then part of what is reviewed and kept with the estate, and needs no pin.
func (k KitSource) InEstate() bool {
	return k.Git == "" && filepath.IsLocal(filepath.FromSlash(k.Folder))
}

// Kits are the kits that an environment uses, by name: the estate's,
// overridden by the environment's.
func (e *Estate) Kits(env string) map[string]KitSource {
	out := map[string]KitSource{}
	for n, k := range e.kits {
		out[n] = k
	}
	for _, en := range e.sections(env) {
		for n, k := range en.kits {
			out[n] = k
		}
	}
	return out
}

var tagForm = form.Of(`^[A-Za-z0-9][A-Za-z0-9._/+-]*$`)

func (r *reader) kits(section string, v any) map[string]KitSource {
	out := map[string]KitSource{}
	t := r.table(section, v)
	for _, name := range value.Keys(t) {
		at := section + "." + name
		r.name(at, name)
		k := KitSource{Name: name, Position: r.file.position(at)}
		switch v := t[name].(type) {
		case string:
			k.Folder = v
		case map[string]any:
			r.known(at, v, namesOf("kits.NAME")...)
			for key, to := range map[string]*string{"git": &k.Git, "tag": &k.Tag, "path": &k.Path,
				"folder": &k.Folder} {
				s, ok := v[key].(string)
				if !ok && v[key] != nil {
					r.wrong(at+"."+key, "%s of kit %s must be a text", key, name)
				}
				*to = s
			}
		default:
			r.wrong(at, "%s must be a folder, or a table such as { git = \"URL\", tag = \"v1.0.0\" }", at)
			continue
		}
		r.kitSource(at, k)
		out[name] = k
	}
	return out
}

func (r *reader) kitSource(at string, k KitSource) {
	switch {
	case (k.Folder == "") == (k.Git == ""):
		r.wrong(at, "kit %s comes from a folder or from git, one of the two", k.Name)
	case k.Git == "" && (k.Tag != "" || k.Path != ""):
		r.wrong(at, "kit %s comes from a folder, which has no tag and no path", k.Name)
	case k.Git != "" && k.Tag == "":
		r.wrong(at, "kit %s needs a tag: a repository alone is not one version", k.Name)
	case k.Git != "" && !tagForm().MatchString(k.Tag):
		r.wrong(at, "%q is not a tag that kasbah takes", k.Tag)
	case k.Git != "" && (strings.HasPrefix(k.Git, "-") || strings.Contains(k.Git, "::")):
		r.wrong(at, "%q is not a repository that kasbah can use", k.Git)
	case k.Path != "" && !filepath.IsLocal(filepath.FromSlash(k.Path)):
		r.wrong(at, "path %q leads out of the repository", k.Path)
	}
}

// SecretSource is where [env.NAME.secrets] says that a secret comes from.
type SecretSource struct {
	Kind     string   // env, key, file or run
	From     string   // the variable, key or file
	Run      []string // of kind run: the program and its arguments
	Env      []string // and the names of environment variables that it gets besides the usual ones
	Position problem.Position
}

// Secret is where an environment's secret comes from; false when the file
// does not say.
func (e *Estate) Secret(env, name string) (SecretSource, bool) {
	sections := e.sections(env)
	for _, en := range slices.Backward(sections) {
		if s, ok := en.secrets[name]; ok {
			return s, true
		}
	}
	return SecretSource{}, false
}

// Secrets lists the names that an environment's secrets section gives.
func (e *Estate) Secrets(env string) []string {
	all := map[string]bool{}
	for _, en := range e.sections(env) {
		for name := range en.secrets {
			all[name] = true
		}
	}
	return value.Keys(all)
}

func (r *reader) secrets(section string, v any) map[string]SecretSource {
	out := map[string]SecretSource{}
	t := r.table(section, v)
	for _, name := range value.Keys(t) {
		at := section + "." + name
		if _, ok := t[name].(map[string]any); !ok {
			r.wrong(at, "a secret is never written into %s: write %s = { env = \"NAME\" }, or key, file or run", File,
				name)
			continue
		}
		s, ok := ReadSource(t[name])
		if !ok {
			r.wrong(at, "secret %s needs one of env = \"NAME\", key = \"NAME\", file = \"PATH\" or run = "+
				"[\"PROGRAM\", …]", name)
			continue
		}
		s.Position = r.file.position(at)
		out[name] = s
	}
	return out
}

// ReadSource reads where a secret comes from: a table with one of env, key, file
// and run. It is false for anything else.
func ReadSource(v any) (SecretSource, bool) {
	var s SecretSource
	one, ok := v.(map[string]any)
	if !ok || len(one) == 0 {
		return s, false
	}
	if names, besides := one["env"].([]any); besides && one["run"] != nil && len(one) == 2 { // what the program gets
		for _, x := range names {
			name, isText := x.(string)
			if !isText {
				return s, false
			}
			s.Env = append(s.Env, name)
		}
		one = map[string]any{"run": one["run"]}
	}
	if len(one) != 1 {
		return s, false
	}
	for _, kind := range []string{"env", "key", "file", "run"} {
		switch from := one[kind].(type) {
		case string:
			s.Kind, s.From = kind, from
			ok = from != "" && kind != "run"
		case []any:
			s.Kind = kind
			ok = kind == "run" && len(from) > 0
			for _, x := range from {
				word, isText := x.(string)
				ok = ok && isText
				s.Run = append(s.Run, word)
			}
		}
	}
	return s, ok && s.Kind != ""
}

// KitFile is the name of the file that makes a folder a kit.
const KitFile = "kit.toml"

// Kit is what a kit.toml says.
type Kit struct {
	Name    string
	Version string
	Help    string
	Drivers []string // kinds of drivers; also the names under which the kit's code knows them
	Kits    []string // other kits it uses, by name
}

// ParseKit reads the text of a kit.toml. file is how messages call it.
func ParseKit(file string, body []byte) (*Kit, error) {
	if err := bounded(file, body); err != nil {
		return nil, err
	}
	var raw map[string]any
	if err := toml.Unmarshal(body, &raw); err != nil {
		return nil, tomlProblem(file, err)
	}
	r := &reader{file: newLayout(file, string(body))}
	r.known("", raw, "name", "version", "help", "drivers", "kits")
	k := &Kit{Name: r.name("name", raw["name"])}
	k.Version, _ = raw["version"].(string)
	if k.Version == "" {
		r.wrong("version", "version is missing: give the kit one, such as version = \"1.0.0\"")
	}
	k.Help, _ = raw["help"].(string)
	for key, to := range map[string]*[]string{"drivers": &k.Drivers, "kits": &k.Kits} {
		list, ok := raw[key].([]any)
		if !ok && raw[key] != nil {
			r.wrong(key, "%s must be a list of names", key)
		}
		for _, v := range list {
			*to = append(*to, r.name(key, v))
		}
	}
	r.problems.Sort()
	return k, r.problems.Err()
}

func tomlProblem(file string, err error) error {
	var perr toml.ParseError
	if errors.As(err, &perr) {
		return problem.At(problem.Position{File: file, Line: perr.Position.Line, Column: max(1, perr.Position.Col)},
			"%s", perr.Message)
	}
	return problem.At(problem.Position{File: file}, "%v", err)
}

// PinsFile is the name of the file that pins kits and drivers.
const PinsFile = "pins.toml"

// Pin fixes what a kit is: its files must have this digest. Environments may
// use a kit from different sources, each with a pin of its own.
type Pin struct {
	Name    string `toml:"name"`
	Source  string `toml:"source"` // as KitSource.String writes it
	Version string `toml:"version"`
	Commit  string `toml:"commit,omitempty"` // of a repository
	Digest  string `toml:"digest"`           // sha256: and hexadecimal, see the reference
}

// DriverPin fixes what a driver offers: its catalogue must have this digest.
type DriverPin struct {
	Name    string `toml:"name"`
	Version string `toml:"version"`
	Types   string `toml:"types"` // sha256: and hexadecimal, as schema.Catalog.Digest writes it
}

// Pins is what a pins.toml says.
type Pins struct {
	Kits    []Pin       `toml:"kit,omitempty"`
	Drivers []DriverPin `toml:"driver,omitempty"`
}

// Driver is the pin of a driver; nil when there is none.
func (p *Pins) Driver(name string) *DriverPin {
	for i := range p.Drivers {
		if p.Drivers[i].Name == name {
			return &p.Drivers[i]
		}
	}
	return nil
}

// SetDriver replaces the pin of a driver, or adds it.
func (p *Pins) SetDriver(pin DriverPin) {
	if old := p.Driver(pin.Name); old != nil {
		*old = pin
		return
	}
	p.Drivers = append(p.Drivers, pin)
	sort.Slice(p.Drivers, func(i, j int) bool { return p.Drivers[i].Name < p.Drivers[j].Name })
}

// Of is the pin of a kit from one source; nil when there is none.
func (p *Pins) Of(name, source string) *Pin {
	for i := range p.Kits {
		if p.Kits[i].Name == name && p.Kits[i].Source == source {
			return &p.Kits[i]
		}
	}
	return nil
}

// Set replaces the pin of a kit's source, or adds it.
func (p *Pins) Set(pin Pin) {
	if old := p.Of(pin.Name, pin.Source); old != nil {
		*old = pin
		return
	}
	p.Kits = append(p.Kits, pin)
	sort.Slice(p.Kits, func(i,
		j int) bool {
		return p.Kits[i].Name+" "+p.Kits[i].Source < p.Kits[j].Name+" "+p.Kits[j].Source
	})
}

// ParsePins reads the text of a pins.toml.
func ParsePins(body []byte) (*Pins, error) {
	p := &Pins{}
	meta, err := toml.Decode(string(body), p)
	if err != nil {
		return nil, tomlProblem(PinsFile, err)
	}
	for _, k := range meta.Undecoded() {
		e := problem.At(KeyPositions(PinsFile, string(body))(k.String()), "unknown key %q", k.String())
		e.Hint = nearest.Hint(k[len(k)-1], []string{"kit", "driver", "name", "source", "version", "commit", "digest",
			"types"})
		return nil, e
	}
	for i, k := range p.Kits {
		switch {
		case k.Name == "" || k.Source == "":
			return nil, problem.At(problem.Position{File: PinsFile}, "pin %d has no name or no source", i+1)
		case !digestForm().MatchString(k.Digest):
			return nil, problem.At(problem.Position{File: PinsFile}, "the pin of kit %s has no digest such as sha256:…",
				k.Name)
		case p.Of(k.Name, k.Source) != &p.Kits[i]:
			return nil, problem.At(problem.Position{File: PinsFile}, "kit %s from %s is pinned twice", k.Name, k.Source)
		}
	}
	for i, d := range p.Drivers {
		switch {
		case d.Name == "":
			return nil, problem.At(problem.Position{File: PinsFile}, "driver pin %d has no name", i+1)
		case !digestForm().MatchString(d.Types):
			return nil, problem.At(problem.Position{File: PinsFile},
				"the pin of driver %s has no digest such as sha256:…", d.Name)
		case p.Driver(d.Name) != &p.Drivers[i]:
			return nil, problem.At(problem.Position{File: PinsFile}, "driver %s is pinned twice", d.Name)
		}
	}
	return p, nil
}

var digestForm = form.Of(`^sha256:[0-9a-f]{64}$`)

// Encode writes a pins.toml.
func (p *Pins) Encode() ([]byte, error) {
	b := bytes.NewBufferString("# Written by `kasbah kit update` and `kasbah types -pin`: what each kit is, and " +
		"what\n# each driver offers. Keep it with the estate.\n\n")
	err := toml.NewEncoder(b).Encode(p)
	return b.Bytes(), err
}
