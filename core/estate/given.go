package estate

import (
	"kasbah/core/problem"
	"kasbah/core/value"
)

// Input is a value given to an input from outside. Later ones win.
type Input struct {
	Ward     string // "" for every ward that has an input of this name
	Name     string
	Value    any    // the value, unless Raw is used
	Raw      string // text as typed, read by the input's kind
	IsRaw    bool
	Source   string // as people read it: `-input`, `KASBAH_INPUT_SPAN`, `kasbah.toml [env.trial.inputs]`
	Position problem.Position
	At       func(path string) problem.Position // where a part of it is; nil where only the whole is known
}

// Inputs are the values that the files give in an environment, weakest first.
func (e *Estate) Inputs(env string) []Input {
	var out []Input
	add := func(m value.Map, ward, section string, in *layout) {
		for _, k := range value.Keys(m) {
			out = append(out, Input{
				Ward: ward, Name: k, Value: m[k], Position: in.position(section + "." + k), Source: in.file + " " + shown(section),
				At: func(path string) problem.Position { return in.position(section + "." + path) },
			})
		}
	}
	add(e.inputs, "", "inputs", e.file)
	for _, w := range value.Keys(e.beside) {
		add(e.beside[w].inputs, w, "inputs", e.beside[w].file)
	}
	sections := e.sections(env)
	for _, en := range sections {
		add(en.inputs, "", en.section+".inputs", e.file)
	}
	for _, en := range sections {
		for _, w := range value.Keys(en.wards) {
			add(en.wards[w], w, en.section+".ward."+w+".inputs", e.file)
		}
	}
	for _, en := range sections {
		for _, w := range value.Keys(e.beside) {
			add(e.beside[w].envs[en.name()].inputs, w, en.section+".inputs", e.beside[w].file)
		}
	}
	return out
}

// OwnInput reports whether an environment gives an input of a ward a value of its own.
func (e *Estate) OwnInput(env, ward, name string) bool {
	for _, en := range e.sections(env) {
		_, all := en.inputs[name]
		_, one := en.wards[ward][name]
		if all || one {
			return true
		}
		if f := e.beside[ward]; f != nil {
			if _, own := f.envs[en.name()].inputs[name]; own {
				return true
			}
		}
	}
	return false
}
