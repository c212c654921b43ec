package propose

import (
	"fmt"
	"maps"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// ValuesDiffer reports whether two values differ beyond the ways of saying nothing.
func ValuesDiffer(a, b any) bool { return !value.Equal(a, b) && !(value.Empty(a) && value.Empty(b)) }

// differences walks two values of an attribute and reports where they
// differ: maps key by key, lists of one length item by item, lists of which
// one begins with the other by what is added or taken away, everything else
// whole.
func differences(path value.Path, was, willBe any, yield func(p value.Path, was, willBe any)) {
	if !ValuesDiffer(was, willBe) {
		return
	}
	a, ok1 := was.(map[string]any)
	b, ok2 := willBe.(map[string]any)
	if ok1 && ok2 || ok1 && willBe == nil || ok2 && was == nil {
		keys := map[string]bool{}
		for k := range a {
			keys[k] = true
		}
		for k := range b {
			keys[k] = true
		}
		for _, k := range value.Keys(keys) {
			differences(append(path[:len(path):len(path)], value.Key(k)), a[k], b[k], yield)
		}
		return
	}
	if differentItems(path, was, willBe, yield) {
		return
	}
	yield(path, was, willBe)
}

// differentItems reports the items in which two lists differ, and whether the
// lists are such that this says it better than the whole.
func differentItems(path value.Path, was, willBe any, yield func(p value.Path, was, willBe any)) bool {
	a, ok1 := was.([]any)
	b, ok2 := willBe.([]any)
	if !ok1 || !ok2 || len(a) == 0 || len(b) == 0 {
		return false
	}
	both := min(len(a), len(b))
	if len(a) != len(b) {
		for i := range both {
			if ValuesDiffer(a[i], b[i]) {
				return false
			}
		}
	}
	at := func(i int) value.Path { return append(path[:len(path):len(path)], value.Item(i)) }
	for i := range both {
		differences(at(i), a[i], b[i], yield)
	}
	for i := both; i < len(a); i++ {
		yield(at(i), a[i], nil)
	}
	for i := both; i < len(b); i++ {
		yield(at(i), nil, b[i])
	}
	return true
}

// leaveAlone puts the parts of an attribute that others own, as they are
// live, into the value that is wanted. whole is true when all of it is left.
func leaveAlone(name string, want, live any, leave []value.Path) (out any, whole bool) {
	out = want
	for _, p := range leave {
		if p[0].Key != name {
			continue
		}
		if len(p) == 1 {
			return want, true
		}
		out = overlay(value.Clone(out), live, p[1:])
	}
	return out, false
}

// LeaveAlone are attributes as they are sent: without what others own wholly, and with
// the parts that they own as they are live.
func LeaveAlone(attributes, live value.Map, leave []value.Path) value.Map {
	if len(leave) == 0 || attributes == nil {
		return attributes
	}
	out := make(value.Map, len(attributes))
	for name, v := range attributes {
		if v, whole := leaveAlone(name, v, live[name], leave); !whole {
			out[name] = v
		}
	}
	return out
}

// overlay sets what is at p in live into v, or takes it away where live has
// nothing there.
func overlay(v, live any, p value.Path) any {
	m, ok := v.(map[string]any)
	if !ok {
		if v != nil || p[0].Item {
			return v
		}
		m = value.Map{}
	}
	if len(p) == 1 {
		if x, ok := p.At(live); ok {
			m[p[0].Key] = value.Clone(x)
		} else {
			delete(m, p[0].Key)
		}
		return m
	}
	below, _ := p[:1].At(live)
	m[p[0].Key] = overlay(m[p[0].Key], below, p[1:])
	return m
}

// comparison is one resource's three sides.
type comparison struct {
	ward     string
	typ      *schema.Type
	declared value.Map // resolved as far as it can be; nil when not declared
	recorded value.Map // inputs last enacted
	live     value.Map // attributes now; the recorded inputs when offline
	leave    []value.Path
}

// compare lists the changes from live to declared, the inputs as they are to
// be, and the attributes that are no longer declared and stay. The inputs are those declared,
// unless something takes the place of one.
func (c comparison) compare() (changes []Change, inputs value.Map, left []string) {
	inputs = c.declared
	for _, a := range c.typ.Attributes {
		if a.Output {
			continue
		}
		want, declared := c.declared[a.Name]
		old, recorded := c.recorded[a.Name]
		switch {
		case declared:
		case recorded && a.Name == "name" && c.typ.NamedByPattern():
			inputs = with(inputs, a.Name, old) // made once, and the cloud's from then on
			continue
		case recorded && a.HasDefault && !a.Fixed:
			want = a.Default
		case recorded:
			if ValuesDiffer(old, nil) {
				left = append(left, a.Name)
			}
			continue
		default:
			continue // never declared: it belongs to the cloud
		}
		have := c.live[a.Name]
		if a.Loose() {
			want, have = a.Canonical(value.Clone(want)), a.Canonical(value.Clone(have))
		}
		want, whole := leaveAlone(a.Name, want, have, c.leave)
		switch {
		case whole && recorded:
			inputs = with(inputs, a.Name, old)
			continue
		case whole:
			inputs = maps.Clone(inputs)
			delete(inputs, a.Name)
			continue
		case declared && (a.Loose() || len(c.leave) > 0):
			inputs = with(inputs, a.Name, want)
		}
		if value.Equal(have, want) {
			continue
		}
		differences(value.Path{value.Key(a.Name)}, have, want, func(p value.Path, was, willBe any) {
			before, _ := p.At(map[string]any(c.recorded))
			changes = append(changes, Change{
				Path: p.String(), Was: value.Any{V: was}, WillBe: value.Any{V: willBe}, From: c.source(willBe),
				Fixed: a.Fixed, Secret: a.Secret || value.IsSecret(willBe), Security: a.Security, ByHand: recorded &&
					ValuesDiffer(before, was),
			})
		})
	}
	return changes, inputs, left
}

// with is a copy of a map in which a key has a value.
func with[M ~map[string]any](m M, key string, v any) M {
	out := make(M, len(m)+1)
	maps.Copy(out, m)
	out[key] = v
	return out
}

// Compare lists how an attribute that is live differs from what is wanted,
// but for what others own. whole is true when all of it is theirs.
func Compare(name string, want, live any, leave []value.Path) (changes []Change, whole bool) {
	want, whole = leaveAlone(name, want, live, leave)
	if whole {
		return nil, true
	}
	differences(value.Path{value.Key(name)}, live, want, func(p value.Path, was, willBe any) {
		changes = append(changes, Change{Path: p.String(), Was: value.Any{V: was}, WillBe: value.Any{V: willBe}})
	})
	return changes, false
}

func (c comparison) source(v any) string { return source(c.ward, v) }

// source says where a value that is pending, or holds something pending,
// comes from, to people in a ward.
func source(ward string, v any) string {
	if p, ok := v.(*value.Pending); ok {
		return p.In(ward)
	}
	var from []string
	value.Refs(v, func(r value.Ref) { from = append(from, r.In(ward)) })
	return strings.Join(from, ", ")
}

// initial lists the inputs of a new resource as changes from nothing.
func initial(ward string, t *schema.Type, inputs value.Map) []Change {
	var out []Change
	for _, a := range t.Attributes {
		v, ok := inputs[a.Name]
		if !ok {
			continue
		}
		differences(value.Path{value.Key(a.Name)}, nil, v, func(p value.Path, _, v any) {
			out = append(out, Change{Path: p.String(), WillBe: value.Any{V: v}, From: source(ward, v), Fixed: a.Fixed,
				Secret: a.Secret || value.IsSecret(v), Security: a.Security && ValuesDiffer(v, a.Default)})
		})
	}
	return out
}

// fixedReason says which fixed attributes make a change a swap.
func fixedReason(changes []Change) string {
	var names []string
	seen := map[string]bool{}
	for _, c := range changes {
		p, err := value.ParsePath(c.Path)
		if err == nil && c.Fixed && !seen[p[0].Key] {
			seen[p[0].Key] = true
			names = append(names, p[0].Key)
		}
	}
	switch len(names) {
	case 0:
		return ""
	case 1:
		return names[0] + " is fixed"
	}
	return fmt.Sprintf("%s are fixed", joinAnd(names))
}

func joinAnd(names []string) string {
	if len(names) == 1 {
		return names[0]
	}
	out := ""
	for i, n := range names[:len(names)-1] {
		if i > 0 {
			out += ", "
		}
		out += n
	}
	return out + " and " + names[len(names)-1]
}

// kitOf is the outermost kit that declares a resource, or "".
func kitOf(d *declare.Resource) string {
	for _, in := range d.Within {
		if in.Kit != "" {
			return in.Kit
		}
	}
	return ""
}
