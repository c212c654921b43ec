package conformance

import (
	"crypto/rand"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/BurntSushi/toml"

	"kasbah/core/driver"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// sampleFile says what the suite may make: texts may hold {n}, the number of the
// thing, so that no two are alike.
type sampleFile struct {
	Inputs map[string]any `toml:"inputs"`
	Edit   map[string]any `toml:"edit"`
	Few    bool           `toml:"few"`
}

// SampleOf reads a sample from a TOML file, or makes one up where the type asks for nothing that
// cannot be.
func SampleOf(t *schema.Type, path string) (Sample, error) {
	s := Sample{Type: t.Name}
	var f sampleFile
	var err error
	if path != "" {
		f, err = readSample(path)
	} else {
		f, err = madeUp(t)
	}
	if err != nil {
		return s, err
	}
	s.Few = f.Few
	s.Inputs = func(n int) value.Map { return numbered(f.Inputs, n).(map[string]any) }
	s.Edit = driver.Change{To: numbered(f.Edit, 0).(map[string]any)}
	return s, nil
}

func readSample(path string) (sampleFile, error) {
	var f sampleFile
	body, err := os.ReadFile(path)
	if err != nil {
		return f, err
	}
	meta, err := toml.Decode(string(body), &f)
	if err != nil {
		return f, fmt.Errorf("%s: %w", path, err)
	}
	for _, k := range meta.Keys() {
		if !slices.Contains([]string{"inputs", "edit", "few"}, k[0]) {
			return f, fmt.Errorf("%s: %q is none of inputs, edit, few", path, k.String())
		}
	}
	for _, m := range []map[string]any{f.Inputs, f.Edit} {
		for k, v := range m {
			if m[k], err = value.Normal(v); err != nil {
				return f, fmt.Errorf("%s: %s: %w", path, k, err)
			}
		}
	}
	if f.Inputs == nil {
		f.Inputs = map[string]any{}
	}
	return f, nil
}

// numbered is a value with {n} in its texts replaced.
func numbered(v any, n int) any {
	switch v := v.(type) {
	case string:
		return strings.ReplaceAll(v, "{n}", fmt.Sprint(n))
	case []any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = numbered(v[i], n)
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(v))
		for k := range v {
			out[k] = numbered(v[k], n)
		}
		return out
	}
	return v
}

// madeUp is a sample of what a type requires, with one edit.
func madeUp(t *schema.Type) (sampleFile, error) {
	f := sampleFile{Inputs: map[string]any{}, Edit: map[string]any{}}
	name := "proof-" + strings.ToLower(rand.Text()[:6]) + "-{n}" // what an earlier run has left is in nobody's way
	for _, a := range t.Inputs() {
		wanted := a.Required || a.Name == "name"
		for _, k := range t.Identify {
			wanted = wanted || a.Name == k
		}
		if !wanted {
			continue
		}
		v, ok := someValue(a, name)
		if !ok {
			return f, fmt.Errorf("%s of %s cannot be made up: -sample FILE says what the suite may make, as [inputs] "+
				"and [edit] in TOML", a.Name, schema.WithArticle(t.Name))
		}
		f.Inputs[a.Name] = v
	}
	for _, a := range t.Inputs() {
		if a.Fixed || a.Secret || a.Name == "name" || f.Inputs[a.Name] != nil && a.Kind != schema.Text {
			continue
		}
		if v, ok := someValue(a, "edited"); ok && !value.Equal(v, a.Default) {
			f.Edit[a.Name] = v
			break
		}
	}
	return f, nil
}

func someValue(a *schema.Attribute, text string) (any, bool) {
	switch {
	case a.Refers != "" || a.Pattern != "" && a.Name != "name" || a.Format != "":
		return nil, false
	case len(a.OneOf) > 0:
		return a.OneOf[len(a.OneOf)-1], true
	}
	switch a.Kind {
	case schema.Text:
		return text, true
	case schema.Int, schema.Number:
		if a.Min != nil {
			return int64(*a.Min) + 1, a.Max == nil || *a.Min+1 <= *a.Max
		}
		return int64(1), true
	case schema.Bool:
		return true, true
	}
	return nil, false
}
