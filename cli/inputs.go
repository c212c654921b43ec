package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"strings"

	"github.com/BurntSushi/toml"

	"kasbah/core/declare"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// settings are the keys of [ledger] and [drivers.*] given from outside the
// file: by -with, or by KASBAH_WITH_LEDGER_KEY and KASBAH_WITH_DRIVERS_NAME_KEY.
func (a *app) settings(e *estate.Estate) (map[string]any, error) {
	out := map[string]any{}
	for _, pair := range os.Environ() {
		name, v, _ := strings.Cut(pair, "=")
		rest, ok := strings.CutPrefix(name, "KASBAH_WITH_")
		if !ok || v == "" {
			continue
		}
		rest = strings.ToLower(rest)
		if key, ok := strings.CutPrefix(rest, "ledger_"); ok {
			out["ledger."+key] = setting(v)
		}
		for _, d := range e.Drivers() {
			if key, ok := strings.CutPrefix(rest, "drivers_"+strings.ReplaceAll(d, "-", "_")+"_"); ok {
				out["drivers."+d+"."+key] = setting(v)
			}
		}
	}
	for _, w := range a.with {
		key, v, ok := strings.Cut(w, "=")
		parts := strings.Split(key, ".")
		known := ok && (len(parts) == 2 && parts[0] == "ledger" || len(parts) == 3 && parts[0] == "drivers")
		if !known {
			return nil, problem.Usage("-with wants ledger.KEY=VALUE or drivers.NAME.KEY=VALUE, not %q", w)
		}
		if len(parts) == 3 {
			found := false
			for _, d := range e.Drivers() {
				found = found || d == parts[1]
			}
			if !found {
				return nil, &problem.UsageError{Message: fmt.Sprintf("-with: no driver is called %q", parts[1]), Hint: nearest.Hint(parts[1], e.Drivers())}
			}
		}
		out[key] = setting(v)
	}
	return out, nil
}

// setting reads a value as TOML, or as bare text.
func setting(s string) any {
	var doc map[string]any
	if err := toml.Unmarshal([]byte("v = "+s), &doc); err != nil {
		return s
	}
	v, err := value.Normal(doc["v"])
	if err != nil {
		return s
	}
	return v
}

// givenInputs collects the values of inputs, weakest first.
func (a *app) givenInputs(p *project) ([]declare.Input, error) {
	var out []declare.Input
	for _, g := range p.estate.Inputs(p.env) {
		out = append(out, declare.Input{Ward: g.Ward, Name: g.Name, Value: g.Value, Source: g.Source, Position: g.Position, At: g.At})
	}
	for _, pair := range os.Environ() {
		name, v, _ := strings.Cut(pair, "=")
		if rest, ok := strings.CutPrefix(name, "KASBAH_INPUT_"); ok && v != "" { // an empty one is as good as none
			out = append(out, declare.Input{Name: strings.ToLower(rest), Raw: v, IsRaw: true, Source: name})
		}
	}
	for _, f := range a.files {
		list, err := inputFile(f)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	var forOne []declare.Input // what is for one ward is stronger, wherever it stands
	for _, s := range a.inputs {
		name, v, ok := strings.Cut(s, "=")
		if !ok {
			return nil, problem.Usage("-input wants name=value, not %q", s)
		}
		ward, short := value.SplitWard(name)
		if ward != "" && !p.estate.HasWard(ward) {
			return nil, &problem.UsageError{Message: fmt.Sprintf("-input %s: no ward is called %q", s, ward), Hint: nearest.Hint(ward, p.estate.Wards)}
		}
		in := declare.Input{Ward: ward, Name: short, Raw: v, IsRaw: true, Source: "-input"}
		if ward == "" {
			out = append(out, in)
		} else {
			in.Source = "-input " + ward + ":" + short
			forOne = append(forOne, in)
		}
	}
	return append(out, forOne...), nil
}

const maxInputFile = 16 << 20

func inputFile(path string) ([]declare.Input, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, problem.Usage("-inputs: %v", err)
	}
	if info.Size() > maxInputFile {
		return nil, problem.Usage("-inputs: %s is larger than %d bytes", path, maxInputFile)
	}
	body, err := os.ReadFile(path)
	if err != nil {
		return nil, problem.Usage("-inputs: %v", err)
	}
	body = bytes.TrimPrefix(body, []byte("\ufeff")) // a byte-order mark
	doc := map[string]any{}
	if strings.HasSuffix(path, ".json") {
		dec := json.NewDecoder(strings.NewReader(string(body)))
		dec.UseNumber()
		err = dec.Decode(&doc)
	} else {
		err = toml.Unmarshal(body, &doc)
	}
	if err != nil {
		return nil, problem.At(problem.Position{File: path}, "%v", err)
	}
	var out []declare.Input
	for _, k := range value.Keys(doc) {
		v, err := value.Normal(doc[k])
		if err != nil {
			return nil, problem.At(problem.Position{File: path}, "%s: %v", k, err)
		}
		in := declare.Input{Name: k, Value: v, Source: "-inputs " + path, Position: problem.Position{File: path}}
		if !strings.HasSuffix(path, ".json") {
			in.At = estate.Keys(path, string(body))
			in.Position = in.At(k)
		}
		out = append(out, in)
	}
	return out, nil
}
