package chart

import (
	"slices"

	"kasbah/core/declare"
	"kasbah/core/ledger"
	"kasbah/core/propose"
	"kasbah/core/schema"
	"kasbah/core/survey"
	"kasbah/core/value"
)

// Sources are what a chart is made from. What is nil is not known.
type Sources struct {
	Estate   string
	Env      string
	Currency string // of prices; "" where it is not said
	Declared *declare.Declared
	States   map[string]*ledger.State // by ward
	Report   *survey.Report
	Proposal *propose.Proposal
	Catalogs map[string]*schema.Catalog // by driver
	Facts    bool                       // what is known of each node is noted
}

// New charts what is declared, recorded, live or proposed. It is an error when a record cannot be read.
func New(at At, s Sources) (*Chart, error) {
	c := newChart(s.Estate, s.Env, at)
	c.Currency = s.Currency
	switch at {
	case Recorded, Live:
		c.addRecorded(&s)
	case Proposed:
		c.addProposed(&s)
	default:
		c.addDeclared(&s)
	}
	if s.Report != nil {
		c.judge(s.Report)
	}
	if !s.Facts {
		return c, nil
	}
	if s.Declared != nil {
		for _, r := range s.Declared.Resources {
			if n := c.Find(r.Full()); n != nil {
				c.declared(n, r)
			}
		}
	}
	if err := c.noteRecords(&s); err != nil {
		return nil, err
	}
	if s.Proposal != nil {
		c.noteProposal(s.Proposal)
	}
	if s.Report != nil {
		c.noteReport(s.Report)
	}
	c.sortValues()
	return c, nil
}

// declaredNode is the node of a resource as it is declared.
func declaredNode(r *declare.Resource) *Node {
	n := &Node{Ward: r.Ward, Address: r.Address, Type: r.FullType(), Name: r.Name}
	n.Position, _ = r.Position()
	for _, in := range r.Within {
		n.Within = append(n.Within, Instance{in.Name, in.Kit})
	}
	return n
}

func (c *Chart) addDeclared(s *Sources) {
	for _, r := range s.Declared.Resources {
		c.add(declaredNode(r))
	}
	for _, r := range s.Declared.Resources {
		for _, need := range r.Needs {
			c.need(need.Address, r.Full(), need.Why)
		}
	}
}

// other is a node that need not be declared.
func (s *Sources) other(ward, address, typ, kit string) *Node {
	if r := s.Declared.Resource(value.InWard(ward, address)); r != nil {
		return declaredNode(r)
	}
	n := &Node{Ward: ward, Address: address, Type: typ}
	n.Within, n.Name = within(address, kit)
	return n
}

func (c *Chart) addRecorded(s *Sources) {
	for _, ward := range value.Keys(s.States) {
		for _, address := range s.States[ward].Addresses() {
			c.add(s.other(ward, address, s.States[ward].Records[address].Type, ""))
		}
	}
	c.sort(s.Declared)
	for _, n := range c.Nodes {
		for _, need := range s.States[n.Ward].Records[n.Address].Needs {
			c.need(need, n.Full(), s.why(n.Full(), need))
		}
	}
}

// why is the attribute by which a resource needs another, where the declarations tell.
func (s *Sources) why(full, need string) string {
	if r := s.Declared.Resource(full); r != nil {
		if i := slices.IndexFunc(r.Needs, func(n declare.Need) bool { return n.Address == need }); i >= 0 {
			return r.Needs[i].Why
		}
	}
	return ""
}

func (c *Chart) addProposed(s *Sources) {
	for _, a := range s.Proposal.Actions {
		n := s.other(a.Ward, a.Address, a.Type, a.Kit)
		n.Position, n.State, n.Because = a.Position, string(a.Kind), a.Because
		c.add(n)
	}
	c.sort(s.Declared)
	for _, a := range s.Proposal.Actions {
		for _, need := range a.Needs {
			c.need(need, a.Full(), s.why(a.Full(), need))
		}
	}
}

// judge notes the verdicts of a survey.
func (c *Chart) judge(r *survey.Report) {
	for _, res := range r.Resources {
		if n := c.Find(value.InWard(res.Ward, res.Address)); n != nil {
			n.State, n.Because = string(res.Verdict), res.Because
		}
	}
}

func (c *Chart) noteRecords(s *Sources) error {
	for ward, st := range s.States {
		for address, stored := range st.Records {
			n := c.Find(value.InWard(ward, address))
			if n == nil {
				continue
			}
			r, err := stored.Record()
			if err != nil {
				return err
			}
			drv, name := propose.SplitType(r.Type)
			var typ *schema.Type
			if cat := s.Catalogs[drv]; cat != nil {
				typ = cat.Types[name]
			}
			c.recorded(n, r, typ)
		}
	}
	return nil
}

// noteProposal notes what would change.
func (c *Chart) noteProposal(p *propose.Proposal) {
	for _, a := range p.Actions {
		n := c.Find(a.Full())
		if n == nil {
			continue
		}
		if n.Facts == nil {
			n.Facts = &Facts{}
		}
		if a.Cost != nil {
			n.Price = &a.Cost.WillBe
			if a.Leaves() {
				n.Price = &a.Cost.Was
			}
		}
		if a.Plan != nil && a.Plan.Seen != nil && n.ID == "" {
			n.ID = a.Plan.Seen.ID
		}
		if a.Leaves() {
			continue
		}
		for _, x := range a.Changes {
			v := c.row(n, x.Path)
			v.Secret = v.Secret || x.Secret
			v.Differs = true
			v.Proposed = c.shown(a.Ward, x.WillBe.V, v.Secret)
			if a.Kind != propose.New {
				v.Live = c.shown(a.Ward, x.Was.V, v.Secret)
			}
		}
	}
}

// noteReport notes what has drifted.
func (c *Chart) noteReport(r *survey.Report) {
	for _, res := range r.Resources {
		n := c.Find(value.InWard(res.Ward, res.Address))
		if n == nil || len(res.Differences) == 0 {
			continue
		}
		for _, d := range res.Differences {
			v := c.row(n, d.Path)
			v.Differs = true
			v.Recorded, v.Live = c.shown(res.Ward, d.Expected.V, v.Secret), c.shown(res.Ward, d.Found.V, v.Secret)
		}
	}
}
