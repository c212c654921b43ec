package session

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"strings"

	"github.com/BurntSushi/toml"

	"kasbah/core/disk"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// givenInputs collects the values of inputs, weakest first.
func (s *Session) givenInputs() ([]estate.Input, error) {
	out := s.Estate.Inputs(s.Env)
	for _, pair := range os.Environ() {
		name, v, _ := strings.Cut(pair, "=")
		if rest, ok := strings.CutPrefix(name, "KASBAH_INPUT_"); ok && v != "" { // an empty one is as good as none
			out = append(out, estate.Input{Name: strings.ToLower(rest), Raw: v, IsRaw: true, Source: name})
		}
	}
	for _, f := range s.config.Given.Files {
		list, err := inputFile(f)
		if err != nil {
			return nil, err
		}
		out = append(out, list...)
	}
	var forOne []estate.Input // what is for one ward is stronger, wherever it is
	for _, text := range s.config.Given.Inputs {
		name, v, ok := strings.Cut(text, "=")
		if !ok {
			return nil, problem.Usage("-input must be name=value, not %q", text)
		}
		ward, short := value.SplitWard(name)
		if ward != "" && !s.Estate.HasWard(ward) {
			return nil, &problem.UsageError{Message: fmt.Sprintf("-input %s: no ward is called %q", text, ward),
				Hint: nearest.Hint(ward, s.Estate.Wards)}
		}
		in := estate.Input{Ward: ward, Name: short, Raw: v, IsRaw: true, Source: "-input"}
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

func inputFile(path string) ([]estate.Input, error) {
	body, err := disk.Read(path, maxInputFile)
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
	var out []estate.Input
	for _, k := range value.Keys(doc) {
		v, err := value.Normal(doc[k])
		if err != nil {
			return nil, problem.At(problem.Position{File: path}, "%s: %v", k, err)
		}
		in := estate.Input{Name: k, Value: v, Source: "-inputs " + path, Position: problem.Position{File: path}}
		if !strings.HasSuffix(path, ".json") {
			in.At = estate.KeyPositions(path, string(body))
			in.Position = in.At(k)
		}
		out = append(out, in)
	}
	return out, nil
}
