package openapi

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	yaml "github.com/pb33f/go-yaml"

	"kasbah/core/form"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// What x-kasbah says in a document, or in an Overlay for one whose owner does
// not know of Kasbah. docs/formats/openapi.md describes every key.

const extension = "x-kasbah"

// extended decodes an x-kasbah, where there is one. A key that is not known is an error.
func extended(x *yaml.Node, into any) error {
	if x == nil {
		return nil
	}
	err := decoded(x, into)
	if err == nil {
		return nil
	}
	if m := unknownKey().FindStringSubmatch(err.Error()); m != nil {
		return fmt.Errorf("%s has no key %q", extension, m[1])
	}
	for key, v := range pairsOf(x) { // the package does not say where it is
		one := mapping()
		set(one, key, v)
		if err := decoded(one, reflect.New(reflect.TypeOf(into).Elem()).Interface()); err != nil {
			return fmt.Errorf("%s %s: %s", extension, key, plainly(err))
		}
	}
	return fmt.Errorf("%s: %s", extension, plainly(err))
}

func decoded(x *yaml.Node, into any) error {
	body, err := yaml.Marshal(x)
	if err != nil {
		return err
	}
	return yaml.Load(body, into, yaml.WithKnownFields())
}

// What the YAML package says, with names of Go types and with lines that are those of the
// part that is read.
var (
	unknownKey = form.Of(`field (\S+) not found in type`)
	yamlWords  = form.Of(`yaml: |construct errors:\s*|line \d+: `)
	wrongKind  = form.Of("cannot construct !!(\\w+)(?: (`.*?`))? into (\\S+)")
)

// plainly says in other words what the YAML package says.
func plainly(err error) string {
	said := strings.TrimSpace(yamlWords().ReplaceAllString(err.Error(), ""))
	m := wrongKind().FindStringSubmatch(said)
	if m == nil {
		return said
	}
	is := map[string]string{"map": "a table", "seq": "a list", "str": "a text", "int": "a number", "float": "a number",
		"bool": "true or false", "null": "nothing"}[m[1]]
	belongs := "a table"
	switch {
	case strings.HasPrefix(m[3], "["), m[3] == "openapi.words":
		belongs = "a list"
	case m[3] == "string":
		belongs = "a text"
	case m[3] == "bool":
		belongs = "true or false"
	case strings.HasPrefix(m[3], "int"), strings.HasPrefix(m[3], "float"):
		belongs = "a number"
	}
	if m[2] != "" {
		is = strings.Trim(m[2], "`") + " is " + is
	} else {
		is += " stands there"
	}
	return fmt.Sprintf("%s, and %s belongs there", is, belongs)
}

// documentExtension is x-kasbah at the top of a document.
type documentExtension struct {
	Changes   *changesExtension  `yaml:"changes"`
	KeyHeader string             `yaml:"key-header"` // what carries idempotency keys
	Rate      float64            `yaml:"rate"`       // requests a second; 0 for no bound
	Refusals  *refusalsExtension `yaml:"refusals"`
	Rehearse  *rehearseExtension `yaml:"rehearse"`
	Query     map[string]source  `yaml:"query"` // what every request has besides
	Headers   map[string]source  `yaml:"headers"`
	habits    `yaml:",inline"`
}

// habits are what a document says for all of its types and a component for its
// own.
type habits struct {
	Pages  *pagesExtension  `yaml:"pages"`
	Status *statusExtension `yaml:"status"`
	Work   *workExtension   `yaml:"work"`
	In     *string          `yaml:"in"`      // where in an answer's body a thing stands
	SentIn *string          `yaml:"sent-in"` // where in a request's body it stands
	Keys   string           `yaml:"keys"`
	Edit   editExtension    `yaml:"edit"`
	Media  string           `yaml:"media"` // the media type of edits, where it is not the document's
	Create string           `yaml:"create"`
	// what a list shows of each thing: whole, summary or ids; none where there is no list
	Lists string `yaml:"lists"`
	Read  string `yaml:"read"` // one; list where nothing reads one alone; none where nothing shows any

	Parents map[string]source `yaml:"parents"` // what fills parameters of paths, by name
}

// changesExtension says where the change feed is and what it can be asked.
type changesExtension struct {
	Path  string            `yaml:"path"`
	Query map[string]string `yaml:"query"` // what each request has besides
	Since string            `yaml:"since"` // the query parameter that takes a time (RFC 3339)
	Order string            `yaml:"order"` // newest, or oldest, when left out: which come first
}

// UnmarshalYAML reads one; a scalar is a path.
func (c *changesExtension) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		c.Path = n.Value
		return nil
	}
	type plain changesExtension
	if err := errors.Join(only(n, "path", "query", "since", "order"), n.Decode((*plain)(c))); err != nil {
		return err
	}
	if c.Path == "" {
		return errors.New("path is missing in changes")
	}
	if c.Order != "" && c.Order != "newest" && c.Order != "oldest" {
		return fmt.Errorf("order in changes must be newest or oldest, not %q", c.Order)
	}
	return nil
}

// source is where a value comes from: it stands there, a setting of the driver has it, or
// it is the id of a thing of another type.
type source struct {
	Value   string `yaml:"value"`
	Setting string `yaml:"setting"`
	Refers  string `yaml:"refers"`
}

// UnmarshalYAML reads a source; a scalar is a value.
func (s *source) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		s.Value = n.Value
		return nil
	}
	type plain source
	return errors.Join(only(n, "value", "setting", "refers"), n.Decode((*plain)(s)))
}

// editExtension says how things are edited: in a way that has a name, or by what else is
// sent where.
type editExtension struct {
	// merge-patch, json-patch, put, none; what is sent with another method is what changes
	Way    string `yaml:"way"`
	Method string `yaml:"method"` // such as POST
	Path   string `yaml:"path"`   // where it is not the thing's own
}

// UnmarshalYAML reads both.
func (e *editExtension) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		e.Way = n.Value
		return nil
	}
	type plain editExtension
	return errors.Join(only(n, "way", "method", "path"), n.Decode((*plain)(e)))
}

// only is an error for a key that is none of those known.
func only(n *yaml.Node, known ...string) error {
	for key := range pairsOf(n) {
		if !slices.Contains(known, key) {
			return fmt.Errorf("field %s not found in type", key)
		}
	}
	return nil
}

// wholeExtension says in which whole a type's things are parts.
type wholeExtension struct {
	Path   string         `yaml:"path"`   // of the whole
	At     string         `yaml:"at"`     // where in it they stand, in a list
	Key    []string       `yaml:"key"`    // the properties that tell one from the others
	Method string         `yaml:"method"` // that changes parts alone: PATCH; PUT, with all of them, when left out
	Put    map[string]any `yaml:"put"`    // what a part says that is to be there
	Drop   map[string]any `yaml:"drop"`   // what one says that is to go
}

// goneExtension says by which values of a property a thing that still shows is gone.
type goneExtension struct {
	At     string   `yaml:"at"`
	Values []string `yaml:"values"`
}

// over lays what a component says over what its document says.
func (h habits) over(d habits) habits {
	if h.Pages == nil {
		h.Pages = d.Pages
	}
	if h.Status == nil {
		h.Status = d.Status
	}
	if h.Work == nil {
		h.Work = d.Work
	}
	if h.In == nil {
		h.In = d.In
	}
	if h.SentIn == nil {
		h.SentIn = d.SentIn
	}
	if h.Keys == "" {
		h.Keys = d.Keys
	}
	if h.Edit == (editExtension{}) {
		h.Edit = d.Edit
	}
	h.Lists, h.Read = cmp.Or(h.Lists, d.Lists), cmp.Or(h.Read, d.Read)
	h.Parents = overMap(h.Parents, d.Parents)
	if h.Media == "" {
		h.Media = d.Media
	}
	if h.Create == "" {
		h.Create = d.Create
	}
	return h
}

func overMap(h, d map[string]source) map[string]source {
	if len(d) == 0 {
		return h
	}
	out := maps.Clone(d)
	maps.Copy(out, h)
	return out
}

// pagesExtension says how a list is cut into pages where no Link header does.
type pagesExtension struct {
	Items  string `yaml:"items"`  // where the things stand in a page
	Next   string `yaml:"next"`   // where the next page's URL stands
	Cursor string `yaml:"cursor"` // where the next page's cursor stands,
	Ask    string `yaml:"ask"`    // and the parameter that asks for it
	Offset string `yaml:"offset"` // the parameter that counts things to skip
	Page   string `yaml:"page"`   // the parameter that counts pages, from 1
	Limit  string `yaml:"limit"`  // the parameter that says how many are wanted,
	Size   int    `yaml:"size"`   // and how many that is
}

// statusExtension says which attribute tells that a thing is not ready.
type statusExtension struct {
	At      string   `yaml:"at"`
	Busy    []string `yaml:"busy"`
	Failed  []string `yaml:"failed"`
	Message string   `yaml:"message"` // where the thing says why it failed
}

// workExtension says how to follow work that another resource tells about.
type workExtension struct {
	Header string   `yaml:"header"` // of the answer that leads there; Location when left out
	From   string   `yaml:"from"`   // where in the answer's body its URL stands
	At     string   `yaml:"at"`     // where in it its status stands
	Busy   []string `yaml:"busy"`
	Failed []string `yaml:"failed"`
	Says   string   `yaml:"message"`
	Result string   `yaml:"result"` // where in it the thing's id or URL stands
}

// refusalsExtension says where the words of a refusal stand, where it is no problem
// as RFC 9457 has them. Of several places the first that has something counts.
type refusalsExtension struct {
	Message words `yaml:"message"`
	Errors  words `yaml:"errors"` // a list of what is wrong, or a map by attribute
	At      words `yaml:"at"`     // in one of them: the attribute,
	Says    words `yaml:"says"`   // and what is wrong with it
}

// words is one word or several.
type words []string

// UnmarshalYAML reads both.
func (w *words) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		*w = words{n.Value}
		return nil
	}
	return n.Decode((*[]string)(w))
}

// typeExtension is x-kasbah on a component.
type typeExtension struct {
	// the component that describes things, where it is not this one and not what the path answers
	Schema string `yaml:"schema"`
	Type   string `yaml:"type"`
	Path   string `yaml:"path"`
	Item   string `yaml:"item"`
	// the property that identifies a thing, or those that do together, as its path has them
	ID         words    `yaml:"id"`
	Tag        string   `yaml:"tag"`
	Tags       bool     `yaml:"tags"` // they have some, though no property holds it
	Inputs     string   `yaml:"inputs"`
	Locate     string   `yaml:"locate"`
	Order      []string `yaml:"order"`
	Identify   []string `yaml:"identify"`
	HoldsData  bool     `yaml:"holds-data"`
	Copies     string   `yaml:"copies"`
	UniqueName bool     `yaml:"unique-name"`
	DropFirst  bool     `yaml:"drop-first"`
	// how long what identifies a thing stays taken once it is gone: always, or a time
	NameStays string          `yaml:"name-stays"`
	Edits     string          `yaml:"edits"` // the component that describes what an edit may send
	InWhole   *wholeExtension `yaml:"in-whole"`
	Gone      *goneExtension  `yaml:"gone"`
	// by property and value, what is done instead of an edit: a method and a path
	Actions map[string]map[string]string `yaml:"actions"`
	Price   *struct {
		Month float64                       `yaml:"month"`
		By    map[string]map[string]float64 `yaml:"by"`
		Per   map[string]float64            `yaml:"per"`
	} `yaml:"price"`
	// what x-kasbah on a property would say, where that is not easily reached
	Properties map[string]propertyExtension `yaml:"properties"`
	habits     `yaml:",inline"`
}

// propertyExtension is x-kasbah on a property, or on a parameter of a path.
type propertyExtension struct {
	Fixed            bool     `yaml:"fixed"`
	Refers           string   `yaml:"refers"`
	Security         bool     `yaml:"security"`
	Secret           bool     `yaml:"secret"`
	Output           bool     `yaml:"output"`
	Moves            bool     `yaml:"moves"` // work on what refers to the thing changes it
	Shown            *bool    `yaml:"shown"` // false for an input that the API never shows
	DefaultOnAbsence bool     `yaml:"default-on-absence"`
	Default          any      `yaml:"default"` // what the API fills in where it is left out
	Set              bool     `yaml:"set"`     // a list whose order says nothing
	Same             sameness `yaml:"same"`    // lower: a text whose case says nothing; duration: one such as 1h30m
	Ignored          bool     `yaml:"ignored"` // it is not an attribute at all
}

// sameness is in which way texts that differ say the same.
type sameness string

// UnmarshalYAML reads one of those that there are.
func (s *sameness) UnmarshalYAML(n *yaml.Node) error {
	if *s = sameness(n.Value); n.Value != "lower" && n.Value != "duration" {
		return fmt.Errorf("same: %q is none of lower, duration", n.Value)
	}
	return nil
}

// on adds what is said of a property to what is known of it.
func (x propertyExtension) on(a *schema.Attribute) {
	a.Fixed, a.Security = a.Fixed || x.Fixed, a.Security || x.Security
	a.Output, a.Secret = a.Output || x.Output, a.Secret || x.Secret
	a.Moves = a.Moves || x.Moves
	a.Unshown = a.Unshown || x.Shown != nil && !*x.Shown
	a.Set, a.AnyCase = a.Set || x.Set, a.AnyCase || x.Same == "lower"
	if x.Same == "duration" {
		a.Format = schema.FormatSpan
	}
	if x.Default != nil {
		if v, err := value.Normal(x.Default); err == nil {
			a.Default, a.HasDefault, a.Implied = v, true, true
		}
	}
	a.Refers = cmp.Or(x.Refers, a.Refers)
}

// claims is the type as far as its extension describes it.
func (x *typeExtension) claims(help string) (*schema.Type, error) {
	t := &schema.Type{
		Name: x.Type, Help: help, HoldsData: x.HoldsData, UniqueName: x.UniqueName,
		DropFirst: x.DropFirst, Identify: x.Identify, Tags: x.Tag != "" || x.Tags, Copies: x.Copies != "",
		Locate: x.Locate != "",
	}
	if t.ID = "id"; len(x.ID) > 0 {
		t.ID = x.ID[len(x.ID)-1]
	}
	switch x.NameStays {
	case "":
	case "always":
		t.NameStays = schema.Always
	default:
		d, err := time.ParseDuration(x.NameStays)
		if err != nil || d <= 0 {
			return nil, fmt.Errorf("%s name-stays: %q is neither always nor a time such as 168h", extension,
				x.NameStays)
		}
		t.NameStays = d
	}
	if x.Keys != "" {
		var err error
		if t.KeyMemory, err = time.ParseDuration(x.Keys); err != nil {
			return nil, fmt.Errorf("%s keys: %w", extension, err)
		}
	}
	if p := x.Price; p != nil {
		t.Price = &schema.Price{Month: p.Month, By: p.By, Per: p.Per}
	}
	return t, nil
}
