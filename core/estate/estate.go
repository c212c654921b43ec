// Package estate reads kasbah.toml: what an estate is called, its wards,
// environments, drivers and ledger.
package estate

import (
	"crypto/sha256"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"

	"github.com/BurntSushi/toml"

	"kasbah/core/approval"
	"kasbah/core/form"
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
	Steps   []Step    // programs that have a say
	Limits  Limits
	Digest  string // SHA-256 of the texts that it was read from and the folders of its wards, in hexadecimal

	inputs   value.Map
	ledger   Settings
	approval Settings
	drivers  map[string]Settings
	kits     map[string]KitSource
	watch    watched
	folders  map[string]string       // by ward
	envs     map[string]*environment // with a section of their own
	patterns map[string]*environment
	others   map[string]*Other
	beside   map[string]*wardFile // by ward, where it has one
	texts    map[string][]byte    // of the files that it was read from
	file     *layout
}

// Settings are the keys of a ledger or a driver, as the file gives them.
type Settings = value.Map

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

// Load reads the kasbah.toml in dir, and each ward.toml, and reports everything wrong with them.
func Load(dir string) (*Estate, error) { return Read(dir, nil) }

// Read is Load with texts in place of files, by their path below dir.
func Read(dir string, texts map[string][]byte) (*Estate, error) {
	e := &Estate{Dir: dir, texts: map[string][]byte{}}
	body, err := e.read(File, texts)
	if err != nil {
		return nil, err
	}
	raw, err := decoded(File, body)
	if err != nil {
		return nil, err
	}
	r := &reader{file: newLayout(File, string(body))}
	e.file = r.file
	r.estate(raw, e)
	problems := append(r.problems, e.readWardFiles(texts)...)
	problems.Sort()
	if err := problems.Err(); err != nil {
		return nil, err
	}
	e.Digest = e.digest()
	return e, nil
}

// Parse reads the text of a kasbah.toml that is in dir.
func Parse(dir string, body []byte) (*Estate, error) { return Read(dir, map[string][]byte{File: body}) }

// decoded is a text of TOML as it is decoded.
func decoded(file string, body []byte) (map[string]any, error) {
	if err := bounded(file, body); err != nil {
		return nil, err
	}
	var raw map[string]any
	if err := toml.Unmarshal(body, &raw); err != nil {
		return nil, tomlProblem(file, err)
	}
	return raw, nil
}

// read is the text of a file below the estate's folder.
func (e *Estate) read(file string, texts map[string][]byte) ([]byte, error) {
	body, given := texts[file]
	if !given {
		var err error
		if body, err = os.ReadFile(filepath.Join(e.Dir, filepath.FromSlash(file))); err != nil {
			return nil, err
		}
	}
	e.texts[file] = body
	return body, nil
}

// Texts are the files that the estate was read from, by their path below its folder.
func (e *Estate) Texts() map[string][]byte { return maps.Clone(e.texts) }

func (e *Estate) digest() string {
	h := sha256.New()
	for _, file := range value.Keys(e.texts) {
		fmt.Fprintf(h, "%q %q\n", file, e.texts[file])
	}
	for _, ward := range e.Wards {
		fmt.Fprintf(h, "%q %q\n", ward, e.folders[ward])
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}

// Drivers lists the names of the drivers in byte order.
func (e *Estate) Drivers() []string { return value.Keys(e.drivers) }

// Driver is what the file says of a driver in an environment: the estate's
// keys, overridden one by one by the environment's.
func (e *Estate) Driver(name, env string) Settings {
	out := overridden(e.drivers[name], nil)
	for _, en := range e.sections(env) {
		out = overridden(out, en.drivers[name])
	}
	return out
}

// Ledger is what the file says of the ledger in an environment.
func (e *Estate) Ledger(env string) Settings {
	out := overridden(e.ledger, nil)
	for _, en := range e.sections(env) {
		out = overridden(out, en.ledger)
	}
	return out
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
	var list any = e.Ledger(env)["writers"]
	for _, en := range e.sections(env) {
		if en.writers[ward] != nil {
			list = en.writers[ward]
		}
	}
	return texts(list)
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
	for _, en := range e.sections(env) {
		if en.ledger[key] != nil {
			return e.At("env." + env + ".ledger." + key)
		}
	}
	return e.At("ledger." + key)
}

// Approval is who must sign what is proposed for a ward in an environment; nil for no one. What ward.toml says
// goes before kasbah.toml, key by key.
func (e *Estate) Approval(env, ward string) (*approval.Policy, error) {
	return approval.Read(e.approvalIn(e.environment(env), e.beside[ward]))
}

func (e *Estate) approvalIn(en *environment, f *wardFile) Settings {
	out := e.approval
	for _, at := range en.all() {
		out = overridden(out, at.approval)
	}
	if f != nil {
		out = overridden(out, f.approval)
		for _, at := range en.all() {
			out = overridden(out, f.envs[at.name()].approval)
		}
	}
	return out
}

// overridden are settings with some keys given again.
func overridden(s, by Settings) Settings {
	out := value.CloneMap(s)
	for k, v := range by {
		out[k] = v
	}
	return out
}

// Adoption is a line of kasbah.toml that brings a thing under management.
type Adoption struct {
	Full     string // the address with its ward
	ID       string // of the thing, in the cloud
	Position problem.Position
}

// Adoptions are those of an environment, by address.
func (e *Estate) Adoptions(env string) []Adoption {
	en := e.envs[env] // another one has things of its own, also where it is like this one
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

var nameForm = form.Of(`^[a-z][a-z0-9-]*$`)

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
			where = "in [" + plainKey(section) + "]"
		}
		r.wrong(at, "unknown key %q %s", k, where).Hint = nearest.Hint(k, keys)
	}
}

func (r *reader) estate(raw map[string]any, e *Estate) {
	r.known("", raw, namesOf("")...)
	e.Names, e.Limits, e.drivers = DefaultNames, defaultLimits(), map[string]Settings{}
	e.Name = r.name("estate", raw["estate"])
	if v, ok := raw["renamed_from"]; ok {
		e.former = r.name("renamed_from", v)
	}
	r.wards(raw["wards"], e)
	if v, ok := raw["names"]; ok {
		e.Names = r.pattern(v)
	}
	e.Prices = r.prices(raw["prices"])
	e.Ignored = r.survey(raw["survey"])
	e.watch = r.watch("watch", raw["watch"])
	e.Notify = r.notify(raw["notify"])
	e.Steps = r.steps(raw["step"])
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
	r.environments(raw["env"], e)
	e.others = r.otherEstates(raw["estates"], e)
	r.limits(raw["limits"], &e.Limits)
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

var placeholder = form.Of(`\{[^}]*\}`)

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
