package declare

import (
	"context"
	"os"
	"path"
	"slices"
	"strings"

	"kasbah/core/form"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// AffectedFormat is the format of AffectedDocument.
const AffectedFormat = "kasbah.affected/1"

// AffectedDocument says which wards declare something else than at a commit. It is the JSON form.
type AffectedDocument struct {
	Format string        `json:"format"`
	Since  string        `json:"since"`  // as it was asked for
	Commit string        `json:"commit"` // which that is
	Envs   []AffectedEnv `json:"envs"`
}

// AffectedEnv is an environment's part of it.
type AffectedEnv struct {
	Env   string      `json:"env"`
	Wards []*Affected `json:"wards"` // in the estate's order; those that are gone follow
}

// Names are the wards that are affected in any environment.
func (d *AffectedDocument) Names() []string {
	var out []string
	for _, env := range d.Envs {
		for _, w := range env.Wards {
			if !slices.Contains(out, w.Ward) {
				out = append(out, w.Ward)
			}
		}
	}
	return out
}

// Affected is what one ward declares in another way than at another time.
type Affected struct {
	Ward      string   `json:"ward"`
	New       []string `json:"new"`               // addresses
	Edit      []string `json:"edit"`              // addresses
	Drop      []string `json:"drop"`              // addresses
	Published []string `json:"published"`         // names of values that are published in another way
	Because   []string `json:"because,omitempty"` // what else makes it differ, each a sentence
}

// Differs reports whether there is any difference.
func (a *Affected) Differs() bool {
	return len(a.New)+len(a.Edit)+len(a.Drop)+len(a.Published)+len(a.Because) > 0
}

// Compare says how what a ward declares differs from what it declared; either may be nil. Declarations are the
// same that have the same fingerprint: inputs with pending values unresolved, needs and care.
func Compare(ward string, was, is *Ward) *Affected {
	out := &Affected{Ward: ward, New: []string{}, Edit: []string{}, Drop: []string{}, Published: []string{}}
	before := map[string]*Resource{}
	published := map[string]string{}
	if was != nil {
		for _, r := range was.Resources {
			before[r.Address] = r
		}
		for name, p := range was.Published {
			published[name] = string(value.Append(nil, p.Value))
		}
	}
	if is != nil {
		for _, r := range is.Resources {
			old := before[r.Address]
			delete(before, r.Address)
			switch {
			case old == nil:
				out.New = append(out.New, r.Address)
			case old.Fingerprint() != r.Fingerprint():
				out.Edit = append(out.Edit, r.Address)
			}
		}
		for name, p := range is.Published {
			if old, known := published[name]; !known || old != string(value.Append(nil, p.Value)) {
				out.Published = append(out.Published, name)
			}
			delete(published, name)
		}
	}
	out.Drop = append(out.Drop, value.Keys(before)...)
	out.Published = append(out.Published, value.Keys(published)...)
	slices.Sort(out.Published)
	return out
}

// literalRead is a call that reads a value of a ward which is named there.
var literalRead = form.Of(`\bpublished\(\s*(?:ward\s*=\s*)?["']([^"']*)["']`)

// anyRead is every place that may read a value of a ward.
var anyRead = form.Of(`\bpublished\b`)

// MayRead reports whether a ward's files may read what some others publish. It is a quick look that spares an
// evaluation, and true where that cannot be told without one.
func (o Options) MayRead(ward string, others map[string]bool) (bool, error) {
	root, err := os.OpenRoot(o.Estate.Dir)
	if err != nil {
		return false, err
	}
	defer root.Close()
	files, err := starFiles(o, root, ward)
	if err != nil {
		return false, err
	}
	for _, name := range files {
		body, err := readFile(source{name: name, path: name, root: root}, o.Estate.Limits.FileBytes)
		if err != nil {
			return false, err
		}
		named := literalRead().FindAllSubmatch(body, -1)
		if len(named) < len(anyRead().FindAll(body, -1)) {
			return true, nil
		}
		if slices.ContainsFunc(named, func(m [][]byte) bool { return others[string(m[1])] }) {
			return true, nil
		}
	}
	return false, nil
}

// Suspects are the wards whose declarations a change of some files may move, given from the estate's folder; all
// wards where a file belongs to none of them. Rules, and what no evaluation reads, move nothing.
func (o Options) Suspects(files []string) []string {
	suspect := map[string]bool{}
	for _, file := range files {
		if strings.HasPrefix(file, "rules/") {
			continue
		}
		some := false
		for dir := path.Dir(file); dir != "."; dir = path.Dir(dir) { // a ward may read what is deeper, too
			if ward := o.Estate.WardOf(dir); ward != "" {
				suspect[ward], some = true, true
			}
		}
		if !some {
			return o.Estate.Wards
		}
	}
	return slices.DeleteFunc(slices.Clone(o.Estate.Wards), func(w string) bool { return !suspect[w] })
}

// Along evaluates some wards, and those that they read, which have no ledger here.
func (o Options) Along(ctx context.Context, wards []string) (*Declared, problem.List) {
	o.Wards, o.along = wards, true
	return Evaluate(ctx, o)
}
