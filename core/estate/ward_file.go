package estate

import (
	"errors"
	"io/fs"
	"path"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// WardFile is the name of the file beside a ward's declarations that says what holds for this ward alone. A
// team changes it without touching kasbah.toml.
const WardFile = "ward.toml"

// wardFile is what a ward.toml says.
type wardFile struct {
	file     *layout
	inputs   value.Map
	approval Settings
	notify   []Notify
	envs     map[string]wardPart // by the name of the environment, or its pattern
}

// wardPart is what a ward.toml says of one environment.
type wardPart struct {
	inputs   value.Map
	approval Settings
}

// readWardFiles reads each ward.toml.
func (e *Estate) readWardFiles(texts map[string][]byte) (problems problem.List) {
	e.beside = map[string]*wardFile{}
	for _, ward := range e.Wards {
		name := path.Join(e.folders[ward], WardFile)
		body, err := e.read(name, texts)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		var raw map[string]any
		if err == nil {
			raw, err = decoded(name, body)
		}
		if err != nil {
			problems.Add(err)
			continue
		}
		r := &reader{file: newLayout(name, string(body))}
		e.beside[ward] = r.wardFile(raw, ward, e)
		problems = append(problems, r.problems...)
	}
	return problems
}

func (r *reader) wardFile(raw map[string]any, ward string, e *Estate) *wardFile {
	r.known("", raw, namesOf("ward.toml")...)
	f := &wardFile{file: r.file, inputs: r.table("inputs", raw["inputs"]), approval: r.table("approval", raw["approval"]),
		notify: r.notify(raw["notify"]), envs: map[string]wardPart{}}
	for i := range f.notify {
		f.notify[i].Ward, f.notify[i].Name = ward, ward+":"+f.notify[i].Name
		e.Notify = append(e.Notify, f.notify[i])
	}
	envs := r.table("env", raw["env"])
	for _, name := range value.Keys(envs) {
		at := "env." + name
		t := r.table(at, envs[name])
		r.known(at, t, namesOf("ward.toml env.NAME")...)
		if e.envs[name] == nil && e.patterns[name] == nil {
			r.wrong(at, "%s has no section for the environment %q", File, name).Hint = nearest.HintOr(name,
				append(e.Environments(), e.Patterns()...))
		}
		f.envs[name] = wardPart{r.table(at+".inputs", t["inputs"]), r.table(at+".approval", t["approval"])}
	}
	for _, en := range r.sections(e) {
		if len(f.approval)+len(f.envs[en.name()].approval) > 0 && r.problems.Wrong() == 0 { // once is enough
			r.approval("approval", e.approvalIn(en, f))
		}
	}
	return f
}
