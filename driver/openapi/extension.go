package openapi

import (
	"cmp"
	"fmt"
	"regexp"
	"time"

	yaml "github.com/pb33f/go-yaml"
	"github.com/pb33f/libopenapi/orderedmap"

	"kasbah/core/schema"
)

// What x-kasbah says in a document, or in an Overlay for one whose owner does
// not know of Kasbah. docs/formats/openapi.md describes every key.

const extension = "x-kasbah"

// extended decodes x-kasbah out of some extensions, where it stands there. A
// key that is not known is an error.
func extended(all *orderedmap.Map[string, *yaml.Node], into any) error {
	if get(all, extension) == nil {
		return nil
	}
	body, err := yaml.Marshal(get(all, extension))
	if err == nil {
		err = yaml.Load(body, into, yaml.WithKnownFields())
	}
	if err != nil {
		if m := unknownKey.FindStringSubmatch(err.Error()); m != nil {
			return fmt.Errorf("%s has no key %q", extension, m[1])
		}
		return fmt.Errorf("%s: %w", extension, err)
	}
	return nil
}

// get is what a map of a document has by a key; nothing where there is no map.
func get[V any](m *orderedmap.Map[string, V], key string) (none V) {
	if m == nil {
		return none
	}
	return m.GetOrZero(key)
}

// unknownKey is how the YAML package says so, with names of Go types in it.
var unknownKey = regexp.MustCompile(`field (\S+) not found in type`)

// documentExtension is x-kasbah at the top of a document.
type documentExtension struct {
	Changes   string             `yaml:"changes"`
	KeyHeader string             `yaml:"key-header"` // what carries idempotency keys
	Rate      float64            `yaml:"rate"`       // requests a second; 0 for no bound
	Refusals  *refusalsExtension `yaml:"refusals"`
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
	Edit   string           `yaml:"edit"`
	Media  string           `yaml:"media"` // the media type of edits, where it is not the document's
	Create string           `yaml:"create"`
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
	if h.Edit == "" {
		h.Edit = d.Edit
	}
	if h.Media == "" {
		h.Media = d.Media
	}
	if h.Create == "" {
		h.Create = d.Create
	}
	return h
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
	Message words  `yaml:"message"`
	Errors  string `yaml:"errors"` // a list of what is wrong, or a map by attribute
	At      words  `yaml:"at"`     // in one of them: the attribute,
	Says    words  `yaml:"says"`   // and what is wrong with it
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
	Type       string   `yaml:"type"`
	Path       string   `yaml:"path"`
	Item       string   `yaml:"item"`
	ID         string   `yaml:"id"`
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
	Price      *struct {
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
	Fixed            bool   `yaml:"fixed"`
	Refers           string `yaml:"refers"`
	Security         bool   `yaml:"security"`
	Secret           bool   `yaml:"secret"`
	Output           bool   `yaml:"output"`
	Moves            bool   `yaml:"moves"` // work on what refers to the thing changes it
	Shown            *bool  `yaml:"shown"` // false for an input that the API never shows
	DefaultOnAbsence bool   `yaml:"default-on-absence"`
}

// on adds what is said of a property to what is known of it.
func (x propertyExtension) on(a *schema.Attribute) {
	a.Fixed, a.Security = a.Fixed || x.Fixed, a.Security || x.Security
	a.Output, a.Secret = a.Output || x.Output, a.Secret || x.Secret
	a.Moves = a.Moves || x.Moves
	a.Unshown = a.Unshown || x.Shown != nil && !*x.Shown
	a.Refers = cmp.Or(x.Refers, a.Refers)
}

// claims is the type as far as its extension describes it.
func (x *typeExtension) claims(help string) (*schema.Type, error) {
	t := &schema.Type{
		Name: x.Type, Help: help, ID: x.ID, HoldsData: x.HoldsData, UniqueName: x.UniqueName,
		DropFirst: x.DropFirst, Identify: x.Identify, Tags: x.Tag != "" || x.Tags, Copies: x.Copies != "", Locate: x.Locate != "",
	}
	if t.ID == "" {
		t.ID = "id"
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
