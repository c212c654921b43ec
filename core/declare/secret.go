package declare

import (
	"errors"
	"fmt"
	"strings"

	"go.starlark.net/starlark"

	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// Secret is a value that is never shown and never rests in clear. Evaluation
// does not see it: it behaves like a pending value.
type Secret struct {
	Name     string
	Help     string
	Attr     *schema.Attribute // what a secret input wants of its value
	Position problem.Position
}

// secret is the built-in of that name.
func (ev *evaluator) secret(thread *starlark.Thread, _ *starlark.Builtin, args starlark.Tuple,
	kwargs []starlark.Tuple) (starlark.Value, error) {
	var name string
	if err := starlark.UnpackArgs("secret", args, kwargs, "name", &name); err != nil {
		return nil, err
	}
	if !inputForm().MatchString(name) {
		return nil, fmt.Errorf("%q is not a valid name for a secret: use a-z, 0-9 and _, starting with a letter", name)
	}
	if ev.out.Secrets[name] == nil {
		ev.out.Secrets[name] = &Secret{Name: name, Attr: &schema.Attribute{Name: name, Kind: schema.Text},
			Position: ev.caller(thread)}
	}
	return ev.secretValue(name), nil
}

// secretInput is an input with secret = True.
func (ev *evaluator) secretInput(t *Taken, attr *schema.Attribute, hasDefault bool) (starlark.Value, error) {
	switch {
	case attr.Kind != schema.Text && attr.Kind != schema.Any:
		return nil, fmt.Errorf("a secret input is a text, and this one is %s", schema.WithArticle(kindName(attr)))
	case hasDefault:
		return nil, errors.New("a secret input has no default: it would be readable in the code")
	}
	attr.Kind = schema.Text
	for _, g := range ev.inputs[t.Name] {
		ev.used[g.at] = true
		p := ev.badInput(g, t, t.Name+" is secret and is never given in clear", "")
		p.Hint = SecretHint(t.Name, ev.o.Env)
	}
	t.Source, t.Secret = "secret", true
	ev.out.Secrets[t.Name] = &Secret{Name: t.Name, Help: t.Help, Attr: attr, Position: t.Position}
	return ev.secretValue(t.Name), nil
}

// SecretHint says how a secret is given.
func SecretHint(name, env string) string {
	return fmt.Sprintf("give it by KASBAH_SECRET_%s, or name its source in kasbah.toml under [env.%s.secrets], such "+
		"as %s = { file = \"PATH\" }", strings.ToUpper(name), env, name)
}

func (ev *evaluator) secretValue(name string) starlark.Value {
	ref := &value.Pending{Ref: &value.Ref{Address: value.SecretAddress(name), Secret: true}}
	return &pending{ev: ev, p: ref, attr: &schema.Attribute{Kind: schema.Text}, why: "it is a secret"}
}

// reference is the pending value of an attribute.
func (ev *evaluator) reference(address string, of *schema.Type, attr *schema.Attribute, why string) *pending {
	ref := &value.Ref{Address: address, Path: value.Path{value.Key(attr.Name)}, Secret: attr.Secret}
	return &pending{ev: ev, p: &value.Pending{Ref: ref}, attr: attr, of: of, why: why}
}

// hidden marks every reference inside v as secret.
func hidden(v any) any {
	return value.Replace(v, func(leaf any) any {
		p, ok := leaf.(*value.Pending)
		if !ok {
			return leaf
		}
		if p.Ref != nil {
			ref := *p.Ref
			ref.Secret = true
			return &value.Pending{Ref: &ref}
		}
		out := &value.Pending{}
		for _, part := range p.Parts {
			if part.Value != nil {
				part.Value = hidden(part.Value)
			}
			out.Parts = append(out.Parts, part)
		}
		return out
	})
}
