package cli

import (
	"context"
	"fmt"
	"sort"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/schema"
	"kasbah/core/value"
	"kasbah/render"
)

func whyCommand() *command {
	return &command{
		name: "why", line: "show where a value comes from: lines, inputs, other resources, the run that set it", args: "ADDRESS[.ATTRIBUTE]", common: true,
		examples: [2]string{"kasbah why medina.machine/gauge-sallow.size", "kasbah why shore:medina.network/coast -json"},
		run: func(ctx context.Context, a *app, args []string) error {
			if len(args) != 1 {
				return problem.Usage("why wants one address, such as medina.network/coast or medina.network/coast.range")
			}
			p, states, err := a.openStates(ctx, nil)
			if err != nil {
				return err
			}
			d, _, problems, err := a.evaluate(ctx, p)
			if err != nil {
				return err
			}
			if problemsCode(problems) == exitFailed { // broken rules do not matter here
				return problems
			}
			ward, address, path, err := whichValue(args[0], d, states)
			if err != nil {
				return err
			}
			doc, err := a.why(ctx, p, d, states[ward], ward, address, path)
			if err != nil {
				return err
			}
			if a.json {
				return a.document(doc)
			}
			a.out().Why(doc)
			return nil
		},
	}
}

// whichValue splits what was typed into ward, address and path. Names may
// hold dots, so the longest address that is known wins.
func whichValue(typed string, d *declare.Declared, states map[string]*ledger.State) (ward, address string, path value.Path, err error) {
	known := map[string]bool{}
	for _, r := range d.Resources {
		known[r.Full()] = true
	}
	for w, s := range states {
		for a := range s.Records {
			known[value.InWard(w, a)] = true
		}
	}
	wantWard, short := value.SplitWard(typed)
	var hits []string
	longest := -1
	for full := range known {
		w, a := value.SplitWard(full)
		rest, ok := strings.CutPrefix(short, a)
		if !ok || wantWard != "" && w != wantWard || rest != "" && rest[0] != '.' && rest[0] != '[' || len(a) < longest {
			continue
		}
		if len(a) > longest {
			hits, longest = nil, len(a)
		}
		hits = append(hits, full)
	}
	sort.Strings(hits)
	switch {
	case len(hits) == 0:
		var names []string
		for full := range known {
			_, a := value.SplitWard(full)
			names = append(names, a)
		}
		return "", "", nil, &problem.UsageError{Message: "nothing that is declared or recorded has the address " + typed, Hint: nearest.Hint(short, names)}
	case len(hits) > 1:
		return "", "", nil, &problem.UsageError{Message: typed + " is the address of several resources", Hint: "say which: " + joinOr(hits)}
	}
	ward, address = value.SplitWard(hits[0])
	path, err = value.ParsePath(strings.TrimPrefix(short[longest:], "."))
	if err != nil {
		return "", "", nil, problem.Usage("%v", err)
	}
	return ward, address, path, nil
}

func (a *app) why(ctx context.Context, p *project, d *declare.Declared, s *ledger.State, ward, address string, path value.Path) (*render.WhyDocument, error) {
	doc := &render.WhyDocument{Format: "kasbah.why/1", Env: p.env, Ward: ward, Address: address, Path: path.String()}
	r := d.Find(value.InWard(ward, address))
	var rec *ledger.Record
	var err error
	if st := s.Records[address]; st != nil {
		if rec, err = st.Record(); err != nil {
			return nil, err
		}
	}
	typ := p.typeOf(declare.TypeOf(address))
	switch {
	case typ == nil:
		return nil, problem.Usage("no driver has the type of %s", address)
	case len(path) == 0:
		for _, attr := range typ.Attributes {
			one := value.Path{value.Key(attr.Name)}
			v, err := whyOne(d, r, rec, typ, one)
			if err != nil {
				return nil, err
			}
			doc.Attributes = append(doc.Attributes, v)
		}
	default:
		if doc.WhyValue, err = whyOne(d, r, rec, typ, path); err != nil {
			return nil, &problem.UsageError{Message: err.Error()}
		}
		if v := doc.WhyValue; len(path) > 1 && v.Declared == nil && v.Recorded == nil && !v.Secret {
			return nil, &problem.UsageError{Message: fmt.Sprintf("%s has no %s", address, path), Hint: "`kasbah why " + address + "` lists what it has"}
		}
	}
	if r != nil && len(path) == 0 {
		if doc.Origin, err = d.Why(r, nil); err != nil {
			return nil, err
		}
	}
	attribute := ""
	if len(path) > 0 {
		attribute = path[0].Key
	}
	if rec != nil {
		doc.Last, err = p.ledgers[ward].LastChange(ctx, address, attribute)
	}
	return doc, err
}

// whyOne explains one value: what is declared and what is recorded of it.
func whyOne(d *declare.Declared, r *declare.Resource, rec *ledger.Record, typ *schema.Type, path value.Path) (render.WhyValue, error) {
	v := render.WhyValue{Path: path.String(), Secret: typ.Lookup(path) != nil && typ.Lookup(path).Secret}
	if r == nil && typ.Attribute(path[0].Key) == nil {
		return v, &problem.UsageError{Message: "a " + typ.Name + " has no attribute " + path[0].Key}
	}
	if r != nil {
		var err error
		if v.Origin, err = d.Why(r, path); err != nil {
			return v, err
		}
		if x, ok := path.At(map[string]any(r.Inputs)); ok {
			v.Secret = v.Secret || value.IsSecret(x)
			v.Declared = &value.Any{V: x}
		} else if path.String() == "name" && r.MadeName != "" {
			v.Declared = &value.Any{V: r.MadeName}
		}
	}
	if rec != nil && !v.Secret {
		if x, ok := path.At(map[string]any(rec.Live)); ok {
			v.Recorded = &value.Any{V: x}
		}
	}
	return v, nil
}

// typeOf is a type by its name with the driver; nil when there is none.
func (p *project) typeOf(full string) *schema.Type {
	drv, name, _ := strings.Cut(full, ".")
	if c := p.catalogs[drv]; c != nil {
		return c.Types[name]
	}
	return nil
}
