package ledger

import (
	"maps"
	"slices"

	"kasbah/core/schema"
	"kasbah/core/value"
)

// Secrets in a record. What is secret is in Hidden alone. In Inputs and Live
// a pending value takes its place: the declared one, or one that refers to
// the attribute itself where the cloud has made the secret up. So whatever shows
// or compares a record meets no secret unless it asks for Hidden.

// other stands for a secret that is not the one recorded.
var other = &value.Pending{Ref: &value.Ref{Address: value.SecretAddress(""), Secret: true}}

// Hide moves what is made from secrets out of the inputs: declared are the
// same, with their pending values unresolved.
func (r *Record) Hide(declared value.Map) {
	inputs := maps.Clone(r.Inputs)
	for name, v := range declared {
		if clear, given := r.Inputs[name]; given && value.IsSecret(v) {
			r.hide(name, clear)
			inputs[name] = v
		}
	}
	r.Inputs = inputs
}

func (r *Record) hide(name string, v any) {
	if _, there := r.Hidden[name]; !there || !value.Equal(r.Hidden[name], v) {
		r.Hidden = maps.Clone(r.Hidden)
		if r.Hidden == nil {
			r.Hidden = value.Attributes{}
		}
		r.Hidden[name] = v
	}
}

// Take makes what the cloud shows of the thing the record's live attributes,
// and hides the secrets that the cloud has made up. full is its address with
// its ward.
func (r *Record) Take(t *schema.Type, full string, live value.Map) {
	r.Absent = nil
	for _, a := range t.Attributes {
		v, shown := live[a.Name]
		if !shown {
			r.Absent = append(r.Absent, a.Name)
		} else if a.Secret && !value.IsSecret(r.Inputs[a.Name]) {
			r.hide(a.Name, v)
		}
	}
	r.Live = r.conceal(t, live, func(name string) any {
		if v := r.Inputs[name]; value.IsSecret(v) {
			return v
		}
		return &value.Pending{Ref: &value.Ref{Address: full, Path: value.Path{value.Key(name)}, Secret: true}}
	})
}

// Learned reports whether the driver's description did not have an attribute when the thing
// was last seen.
func (r *Record) Learned(attribute string) bool {
	_, shown := r.Live[attribute]
	return !shown && !slices.Contains(r.Absent, attribute)
}

// Conceal is what the cloud shows with pending values in place of secrets: those
// of the record where they are as recorded, and another one where they are not.
// What the cloud does not show counts as recorded.
func (r *Record) Conceal(t *schema.Type, live value.Map) value.Map {
	return r.conceal(t, live, func(name string) any {
		if v := r.Live[name]; value.IsSecret(v) {
			return v
		}
		return r.Inputs[name]
	})
}

func (r *Record) conceal(t *schema.Type, live value.Map, as func(name string) any) value.Map {
	secret := func(name string) bool {
		a := t.Attribute(name)
		return a != nil && a.Secret || value.IsSecret(r.Inputs[name]) || r.Hidden[name] != nil
	}
	some := len(r.Hidden) > 0
	unshown := false // what the cloud never shows is as recorded, too
	for _, a := range t.Attributes {
		if a.Secret {
			_, shown := live[a.Name]
			some = some || shown
		}
		if a.Unshown && live[a.Name] == nil {
			_, recorded := r.Inputs[a.Name]
			unshown = unshown || recorded
		}
	}
	for name, v := range r.Inputs {
		if value.IsSecret(v) {
			_, shown := live[name]
			some = some || shown
		}
	}
	if !some && !unshown {
		return live
	}
	out := maps.Clone(live)
	for name, v := range r.Inputs {
		if a := t.Attribute(name); unshown && a != nil && a.Unshown && live[name] == nil {
			out[name] = v
		}
	}
	for name, v := range live {
		switch {
		case !secret(name), value.IsSecret(v): // the record itself answers for what has not changed
		case value.Equal(r.Hidden[name], v):
			out[name] = as(name)
		default:
			out[name] = other
		}
	}
	for name, v := range r.Inputs {
		if _, shown := live[name]; !shown && value.IsSecret(v) {
			out[name] = as(name)
		}
	}
	for name := range r.Hidden { // the cloud has made it, and may show it once
		if a := t.Attribute(name); a != nil && a.Output && live[name] == nil {
			out[name] = as(name)
		}
	}
	return out
}

// AnotherSecret is what takes the place of a secret that is not the one recorded.
func AnotherSecret() any { return other }

// Reveal puts the secrets of the record in place of what stands for them.
func (r *Record) Reveal(attributes value.Map) value.Map {
	if r == nil || len(r.Hidden) == 0 {
		return attributes
	}
	out := maps.Clone(attributes)
	for name, v := range attributes {
		if hidden, ok := r.Hidden[name]; ok && value.IsSecret(v) {
			out[name] = hidden
		}
	}
	return out
}

// At is the value of an attribute, secrets included; false when there is none.
func (r *Record) At(p value.Path) (any, bool) {
	v, ok := p.At(map[string]any(r.Live))
	if ok && value.IsSecret(v) {
		return p.At(map[string]any(r.Hidden))
	}
	return v, ok
}

// Shown is the record as it may be shown: without its secrets.
func (r *Record) Shown() *Record {
	if len(r.Hidden) == 0 {
		return r
	}
	out := *r
	out.Hidden = nil
	return &out
}

// Secrets are the attributes that records hold in secret, by address.
func (s *State) Secrets() (map[string][]string, error) {
	out := map[string][]string{}
	for address, st := range s.Records {
		r, err := st.Record()
		if err != nil {
			return nil, err
		}
		if len(r.Hidden) > 0 {
			out[address] = value.Keys(r.Hidden)
		}
	}
	return out, nil
}
