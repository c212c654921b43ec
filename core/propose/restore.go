package propose

import (
	"fmt"
	"strings"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/schema"
	"kasbah/core/value"
)

// AsRecorded is what a ward would declare to be as a state records it: each
// resource with the inputs that were enacted last. A text that was an attribute
// of another resource then, such as its id, refers to it, because it may have
// another one now.
func AsRecorded(env, ward string, s *ledger.State, catalogs map[string]*schema.Catalog) (*declare.Declared, error) {
	w := &declare.Ward{Name: ward, Published: map[string]*declare.Published{}, Taken: map[string]*declare.Taken{},
		Secrets: map[string]*declare.Secret{}, Files: map[string]string{}}
	for _, address := range s.Addresses() {
		r, err := s.Records[address].Record()
		if err != nil {
			return nil, err
		}
		d, err := asRecorded(ward, s, r, catalogs)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", address, err)
		}
		w.Resources = append(w.Resources, d)
	}
	for name, v := range s.Published {
		w.Published[name] = &declare.Published{Name: name, Value: v}
	}
	for name, v := range s.Offered {
		w.Published[name] = &declare.Published{Name: name, Value: v}
	}
	for _, read := range s.Reads {
		of, name, _ := strings.Cut(read, " ")
		name, env, _ := strings.Cut(name, " ")
		w.Reads = append(w.Reads, declare.Read{Ward: of, Name: name, Env: env})
	}
	return declare.FromWards(env, w), nil
}

func asRecorded(ward string, s *ledger.State, r *ledger.Record, catalogs map[string]*schema.Catalog) (*declare.Resource,
	error) {
	drv, name := SplitType(r.Type)
	c := catalogs[drv]
	if c == nil || c.Types[name] == nil {
		return nil, fmt.Errorf("there is no driver for %s any more", r.Type)
	}
	d := &declare.Resource{Ward: ward, Address: r.Address, Driver: drv, Type: c.Types[name],
		Name: r.Address[strings.LastIndexByte(r.Address, '/')+1:]}
	from, err := outputsOf(ward, s, r.Needs, catalogs)
	if err != nil {
		return nil, err
	}
	d.SetInputs(value.Replace(map[string]any(r.Inputs), func(leaf any) any {
		if text, ok := leaf.(string); ok && from[text] != nil {
			return from[text]
		}
		return leaf
	}).(map[string]any))
	for _, n := range r.Needs {
		d.Needs = append(d.Needs, declare.Need{Address: n})
	}
	d.Care = declare.Care{Care: r.Care}
	return d, nil
}

// outputsOf are the texts that the cloud had decided about some resources of a
// ward, each with the attribute that it was. One that several had is none's.
func outputsOf(ward string, s *ledger.State, needs []string,
	catalogs map[string]*schema.Catalog) (map[string]*value.Pending, error) {
	out := map[string]*value.Pending{}
	for _, full := range needs {
		of, short := value.SplitWard(full)
		if of != ward || s.Records[short] == nil {
			continue
		}
		r, err := s.Records[short].Record()
		if err != nil {
			return nil, err
		}
		drv, name := SplitType(r.Type)
		if catalogs[drv] == nil || catalogs[drv].Types[name] == nil {
			continue
		}
		for _, a := range catalogs[drv].Types[name].Attributes {
			text, ok := r.Live[a.Name].(string)
			if !ok || !a.Output || text == "" || len(a.OneOf) > 0 {
				continue
			}
			ref := value.NewRef(full, value.Key(a.Name))
			if _, twice := out[text]; twice {
				ref = nil
			}
			out[text] = ref
		}
	}
	return out, nil
}
