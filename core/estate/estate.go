// Package estate reads kasbah.toml: what an estate is called, its wards,
// environments, drivers and ledger.
package estate

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"

	"github.com/BurntSushi/toml"

	"kasbah/core/approval"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// File is the name of the file that makes a folder an estate.
const File = "kasbah.toml"

// DefaultNames is the pattern of names that the code does not give.
const DefaultNames = "{env}-{ward}-{name}"

// Estate is a folder of declarations, as its kasbah.toml describes it.
type Estate struct {
	Dir     string // absolute path of the folder
	former  string // the name that it was renamed from; "" for none
	Name    string
	Wards   []string
	Names   string // pattern of names made for resources
	Prices  Prices
	Ignored []Ignored // of [survey]
	Notify  []Notify  // who is told of alerts
	Limits  Limits
	Digest  string // SHA-256 of the file's text, in hexadecimal

	inputs   value.Map
	ledger   Settings
	approval Settings
	drivers  map[string]Settings
	kits     map[string]KitSource
	watch    watched
	envs     map[string]*environment
	file     *layout
}

// Settings are the keys of a ledger or a driver, as the file gives them.
type Settings = value.Map

type environment struct {
	former   string // that it was renamed from; "" for none
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

// Limits bound the evaluation of one ward.
type Limits struct {
	FileBytes  int64 // of one file
	Levels     int   // of nested lists and maps
	TextBytes  int   // of one text
	Range      int   // items of a range or repetition
	Steps      uint64
	Seconds    int
	HeapBytes  uint64
	WardValues int // resources one ward may declare
}

// defaultLimits are those that hold unless [limits] says otherwise.
func defaultLimits() Limits {
	return Limits{
		FileBytes: 1 << 20, Levels: 100, TextBytes: 64 << 20, Range: 10_000_000,
		Steps: 100_000_000, Seconds: 60, HeapBytes: 2 << 30, WardValues: 2_000_000,
	}
}

// Find looks for the estate that holds dir: dir itself or the nearest folder
// above it with a kasbah.toml. The error is fs.ErrNotExist when there is none.
func Find(dir string) (string, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	for d := abs; ; d = filepath.Dir(d) {
		if _, err := os.Stat(filepath.Join(d, File)); err == nil {
			return d, nil
		}
		if d == filepath.Dir(d) {
			return "", &problem.Problem{
				Level: problem.Wrong, Message: fmt.Sprintf("no %s in %s or above it", File, abs),
				Hint: "`kasbah start DIR` writes a new estate; `-C DIR` names another folder",
			}
		}
	}
}

// Load reads the kasbah.toml in dir and reports everything wrong with it.
func Load(dir string) (*Estate, error) {
	body, err := os.ReadFile(filepath.Join(dir, File))
	if err != nil {
		return nil, err
	}
	return Parse(dir, body)
}

// Parse reads the text of a kasbah.toml that is in dir.
func Parse(dir string, body []byte) (*Estate, error) {
	if err := bounded(File, body); err != nil {
		return nil, err
	}
	var raw map[string]any
	if err := toml.Unmarshal(body, &raw); err != nil {
		return nil, tomlProblem(File, err)
	}
	r := &reader{file: newLayout(File, string(body))}
	e := r.estate(raw)
	e.Dir, e.file, e.Digest = dir, r.file, fmt.Sprintf("%x", sha256.Sum256(body))
	r.problems.Sort()
	if err := r.problems.Err(); err != nil {
		return nil, err
	}
	return e, nil
}

// Environments lists the environments in byte order.
func (e *Estate) Environments() []string { return value.Keys(e.envs) }

// HasEnvironment reports whether the file knows env.
func (e *Estate) HasEnvironment(env string) bool { return e.envs[env] != nil }

// LedgerNames are the names under which the ledgers of an environment are kept: those
// that they were begun under, where estate or environment were renamed since.
func (e *Estate) LedgerNames(env string) (estate, environment string) {
	estate, environment = cmp.Or(e.former, e.Name), env
	if en := e.envs[env]; en != nil {
		environment = cmp.Or(en.former, env)
	}
	return estate, environment
}

// HasWard reports whether the file lists ward.
func (e *Estate) HasWard(ward string) bool {
	for _, w := range e.Wards {
		if w == ward {
			return true
		}
	}
	return false
}

// Drivers lists the names of the drivers in byte order.
func (e *Estate) Drivers() []string { return value.Keys(e.drivers) }

// Driver is what the file says of a driver in an environment: the estate's
// keys, overridden one by one by the environment's.
func (e *Estate) Driver(name, env string) Settings {
	if en := e.envs[env]; en != nil {
		return overridden(e.drivers[name], en.drivers[name])
	}
	return overridden(e.drivers[name], nil)
}

// Ledger is what the file says of the ledger in an environment.
func (e *Estate) Ledger(env string) Settings {
	if en := e.envs[env]; en != nil {
		return overridden(e.ledger, en.ledger)
	}
	return overridden(e.ledger, nil)
}

// LedgerList is a list of [ledger] that the file gives for all environments, as written:
// recipients, writers or former_keys.
func (e *Estate) LedgerList(key string) []string { return texts(e.ledger[key]) }

func texts(v any) []string {
	var out []string
	list, _ := v.([]any)
	for _, r := range list {
		if text, ok := r.(string); ok {
			out = append(out, text)
		}
	}
	return out
}

// Writers are the public keys of those who may write the ledger of a ward in an
// environment; none where anybody may who can.
func (e *Estate) Writers(env, ward string) []string {
	if en := e.envs[env]; en != nil && en.writers[ward] != nil {
		return texts(en.writers[ward])
	}
	return texts(e.Ledger(env)["writers"])
}

// PublicKey is the public key in the text of a recipient, without the name behind it.
func PublicKey(recipient string) string {
	words := strings.Fields(recipient)
	n := 1
	if len(words) > 0 && strings.HasPrefix(words[0], "ssh-") {
		n = 2
	}
	return strings.Join(words[:min(n, len(words))], " ")
}

// KeyHolder is the name behind a recipient's public key, or "".
func KeyHolder(recipient string) string {
	return strings.TrimSpace(strings.TrimPrefix(strings.Join(strings.Fields(recipient), " "), PublicKey(recipient)))
}

// LedgerAt is where the file says a key of the ledger in an environment.
func (e *Estate) LedgerAt(env, key string) problem.Position {
	if en := e.envs[env]; en != nil && en.ledger[key] != nil {
		return e.At("env." + env + ".ledger." + key)
	}
	return e.At("ledger." + key)
}

// Approval is who must sign proposals in an environment; nil for no one.
func (e *Estate) Approval(env string) (*approval.Policy, error) {
	if en := e.envs[env]; en != nil {
		return approval.Read(overridden(e.approval, en.approval))
	}
	return approval.Read(e.approval)
}

// overridden are settings with some keys given again.
func overridden(s, by Settings) Settings {
	out := value.CloneMap(s)
	for k, v := range by {
		out[k] = v
	}
	return out
}

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

// Inputs are the values that the file gives in an environment, weakest first.
func (e *Estate) Inputs(env string) []Input {
	var out []Input
	add := func(m value.Map, ward, section string) {
		for _, k := range value.Keys(m) {
			out = append(out, Input{
				Ward: ward, Name: k, Value: m[k], Position: e.file.position(section + "." + k), Source: File + " [" +
					section + "]",
				At: func(path string) problem.Position { return e.file.position(section + "." + path) },
			})
		}
	}
	add(e.inputs, "", "inputs")
	if en := e.envs[env]; en != nil {
		add(en.inputs, "", "env."+env+".inputs")
		for _, w := range value.Keys(en.wards) {
			add(en.wards[w], w, "env."+env+".ward."+w+".inputs")
		}
	}
	return out
}

// OwnInput reports whether an environment gives an input of a ward a value of its own.
func (e *Estate) OwnInput(env, ward, name string) bool {
	en := e.envs[env]
	if en == nil {
		return false
	}
	_, all := en.inputs[name]
	_, one := en.wards[ward][name]
	return all || one
}

// Adoption is a line of kasbah.toml that brings a thing under management.
type Adoption struct {
	Full     string // the address with its ward
	ID       string // of the thing, in the cloud
	Position problem.Position
}

// Adoptions are those of an environment, by address.
func (e *Estate) Adoptions(env string) []Adoption {
	en := e.envs[env]
	if en == nil {
		return nil
	}
	var out []Adoption
	for _, full := range value.Keys(en.adopt) {
		out = append(out, Adoption{full, en.adopt[full], e.file.position("env." + env + ".adopt." + full)})
	}
	return out
}

// reader turns the decoded TOML into an Estate and collects problems.
type reader struct {
	file     *layout
	problems problem.List
}

// IsName reports whether a text can name an estate, a ward or an environment: lower-case
// letters, digits and -, a letter first.
func IsName(s string) bool { return nameForm().MatchString(s) }

var nameForm = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[a-z][a-z0-9-]*$`) })

// later are keys of the language that this version reads but cannot serve.
var later = map[string]string{
	"ward": "renaming wards",
}

func (r *reader) wrong(key, format string, args ...any) *problem.Problem {
	p := problem.At(r.file.position(key), format, args...)
	r.problems = append(r.problems, p)
	return p
}

// known reports every key of table that is not among keys.
func (r *reader) known(section string, table map[string]any, keys ...string) {
	for _, k := range value.Keys(table) {
		found := false
		for _, want := range keys {
			found = found || k == want
		}
		if found {
			continue
		}
		at := join(section, k)
		if what, ok := later[k]; ok && section == "" {
			r.wrong(at, "this version of kasbah does not do %s yet", what)
			continue
		}
		where := "at the top level"
		if section != "" {
			where = "in [" + section + "]"
		}
		r.wrong(at, "unknown key %q %s", k, where).Hint = nearest.Hint(k, keys)
	}
}

func (r *reader) estate(raw map[string]any) *Estate {
	r.known("", raw, namesOf("")...)
	e := &Estate{Names: DefaultNames, Limits: defaultLimits(), drivers: map[string]Settings{},
		envs: map[string]*environment{}}
	e.Name = r.name("estate", raw["estate"])
	if v, ok := raw["renamed_from"]; ok {
		e.former = r.name("renamed_from", v)
	}
	e.Wards = r.wards(raw["wards"])
	if v, ok := raw["names"]; ok {
		e.Names = r.pattern(v)
	}
	e.Prices = r.prices(raw["prices"])
	e.Ignored = r.survey(raw["survey"])
	e.watch = r.watch("watch", raw["watch"])
	e.Notify = r.notify(raw["notify"])
	e.ledger = r.ledger("ledger", raw["ledger"])
	if e.ledger["store"] == nil {
		e.ledger["store"] = "file"
	}
	for _, name := range value.Keys(r.table("drivers", raw["drivers"])) {
		r.name("drivers."+name, name)
		s := r.table("drivers."+name, raw["drivers"].(map[string]any)[name])
		if _, ok := s["kind"].(string); !ok {
			r.wrong("drivers."+name, "driver %s needs a kind, such as kind = \"medina\"", name)
		}
		e.drivers[name] = s
	}
	e.kits = r.kits("kits", raw["kits"])
	e.approval = r.table("approval", raw["approval"])
	r.approval("approval", e.approval)
	e.inputs = r.table("inputs", raw["inputs"])
	envs := r.table("env", raw["env"])
	for _, name := range value.Keys(envs) {
		r.name("env."+name, name)
		e.envs[name] = r.environment(name, envs[name], e)
	}
	if len(envs) == 0 {
		r.wrong("env", "no environment: add a section such as [env.trial]")
	}
	r.limits(raw["limits"], &e.Limits)
	return e
}

func (r *reader) environment(name string, v any, e *Estate) *environment {
	section := "env." + name
	t := r.table(section, v)
	r.known(section, t, namesOf("env.NAME")...)
	en := &environment{
		inputs: r.table(section+".inputs", t["inputs"]),
		ledger: r.ledger(section+".ledger", t["ledger"]), approval: r.table(section+".approval", t["approval"]),
		wards: map[string]value.Map{}, writers: map[string][]any{}, drivers: map[string]Settings{},
		kits: r.kits(section+".kits", t["kits"]), secrets: r.secrets(section+".secrets", t["secrets"]),
		adopt: r.adopt(section+".adopt", t["adopt"], e),
		watch: r.watch(section+".watch", t["watch"]), watches: map[string]watched{},
	}
	if v, ok := t["renamed_from"]; ok {
		en.former = r.name(section+".renamed_from", v)
	}
	if len(en.approval) > 0 {
		r.approval(section+".approval", overridden(e.approval, en.approval))
	}
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

func (r *reader) ledger(section string, v any) Settings {
	t := r.table(section, v)
	if how := t["seal"]; how != nil && how != "all" && how != "off" {
		r.wrong(section+".seal", "seal is %s, and must be \"all\" or \"off\"", value.Plain(how))
	}
	if list, ok := t["writers"]; ok {
		r.writers(section+".writers", list)
	}
	if list, ok := t["former_keys"]; ok {
		keys, isList := list.([]any)
		for _, k := range keys {
			digest, isText := k.(string)
			isList = isList && isText && strings.HasPrefix(digest, "sha256:")
		}
		if !isList {
			r.wrong(section+".former_keys", "former_keys must be a list of digests, such as former_keys = "+
				"[\"sha256:…\"]; `kasbah key dismiss` writes it")
		}
	}
	if list, ok := t["recipients"].([]any); t["recipients"] != nil {
		for _, one := range list {
			_, text := one.(string)
			ok = ok && text
		}
		if !ok {
			r.wrong(section+".recipients", "recipients must be a list of public keys, such as recipients = [\"age1… "+
				"keeper-1\"]")
		}
	}
	return t
}

// writers checks who may write.
func (r *reader) writers(at string, v any) {
	list, ok := v.([]any)
	if !ok || len(list) == 0 {
		r.wrong(at, "writers must be a list of public keys, such as writers = [\"ssh-ed25519 AAAA… keeper-1\"]; "+
			"leave it out to let everyone write who can reach the store")
		return
	}
	for _, one := range list {
		text, _ := one.(string)
		if _, err := approval.Public(text); err != nil {
			r.wrong(at, "writers: %s: %v", value.Plain(one), err)
		}
	}
}

// approval checks who must sign, as it holds in the section's environment.
func (r *reader) approval(section string, s Settings) {
	_, err := approval.Read(s)
	if err == nil {
		return
	}
	for _, e := range err.(interface{ Unwrap() []error }).Unwrap() {
		wrong := e.(*approval.KeyError)
		at := section + "." + wrong.Key
		if _, here := s[strings.Split(wrong.Key, ".")[0]]; !here {
			at = section
		}
		r.wrong(at, "%s", wrong.Msg).Hint = wrong.Hint
	}
}

func (r *reader) table(section string, v any) map[string]any {
	if v == nil {
		return map[string]any{}
	}
	t, ok := v.(map[string]any)
	if !ok {
		r.wrong(section, "%s must be a table, written [%s]", section, section)
		return map[string]any{}
	}
	n, err := value.Normal(plainTOML(t))
	if err != nil {
		r.wrong(section, "%s: %v", section, err)
		return map[string]any{}
	}
	return n.(map[string]any)
}

func (r *reader) name(key string, v any) string {
	s, ok := v.(string)
	if !ok || !nameForm().MatchString(s) {
		if v == nil {
			r.wrong(key, "%s is missing: give the estate a name, such as %s = \"lantern-coast\"", key, key)
		} else {
			r.wrong(key, "%s is not a valid name: use a-z, 0-9 and -, starting with a letter", value.Plain(v))
		}
	}
	return s
}

func (r *reader) wards(v any) []string {
	list, ok := v.([]any)
	if !ok || len(list) == 0 {
		r.wrong("wards", "wards must list at least one folder, such as wards = [\"shore\"]")
		return nil
	}
	var out []string
	seen := map[string]bool{}
	for _, w := range list {
		s := r.name("wards", w)
		if seen[s] {
			r.wrong("wards", "ward %q is listed twice", s)
		}
		seen[s] = true
		out = append(out, s)
	}
	return out
}

var placeholder = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`\{[^}]*\}`) })

func (r *reader) pattern(v any) string {
	s, ok := v.(string)
	if !ok || !strings.Contains(s, "{name}") {
		r.wrong("names", "names must be a text that holds {name}, such as %q", DefaultNames)
		return DefaultNames
	}
	for _, p := range placeholder().FindAllString(s, -1) {
		switch p {
		case "{name}", "{ward}", "{env}", "{estate}":
		default:
			r.wrong("names", "names knows {estate}, {env}, {ward} and {name}, not %s", p)
		}
	}
	return s
}

func (r *reader) limits(v any, l *Limits) {
	t := r.table("limits", v)
	r.known("limits", t, namesOf("limits")...)
	set := func(key string, to func(int64)) {
		switch n := t[key].(type) {
		case nil:
		case int64:
			if n > 0 {
				to(n)
				return
			}
			r.wrong("limits."+key, "%s must be more than 0", key)
		default:
			r.wrong("limits."+key, "%s must be a whole number", key)
		}
	}
	set("file_bytes", func(n int64) { l.FileBytes = n })
	set("levels", func(n int64) { l.Levels = int(n) })
	set("text_bytes", func(n int64) { l.TextBytes = int(n) })
	set("range", func(n int64) { l.Range = int(n) })
	set("steps", func(n int64) { l.Steps = uint64(n) })
	set("seconds", func(n int64) { l.Seconds = int(n) })
	set("heap_bytes", func(n int64) { l.HeapBytes = uint64(n) })
	set("resources", func(n int64) { l.WardValues = int(n) })
}

// plainTOML turns arrays of tables and dates into what package value knows.
func plainTOML(v any) any {
	switch v := v.(type) {
	case map[string]any:
		for k := range v {
			v[k] = plainTOML(v[k])
		}
		return v
	case []map[string]any:
		out := make([]any, len(v))
		for i := range v {
			out[i] = plainTOML(v[i])
		}
		return out
	case []any:
		for i := range v {
			v[i] = plainTOML(v[i])
		}
		return v
	case fmt.Stringer:
		return v.String()
	}
	return v
}

func join(section, key string) string {
	if section == "" {
		return key
	}
	return section + "." + key
}

// At is where a dotted key of the file stands, or the nearest key above it.
func (e *Estate) At(key string) problem.Position { return e.file.position(key) }
