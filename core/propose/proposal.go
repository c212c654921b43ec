// Package propose compares what is declared, what is recorded and what is
// live, and says exactly what would be done: one action for every resource.
package propose

import (
	"time"

	"kasbah/core/approval"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/rules"
	"kasbah/core/schema"
	"kasbah/core/steps"
	"kasbah/core/value"
)

// Format is the format of a proposal as JSON.
const Format = "kasbah.proposal/1"

// Kind is one of the eight actions.
type Kind string

const (
	New     Kind = "new"
	Edit    Kind = "edit"
	Swap    Kind = "swap"
	Drop    Kind = "drop"
	Adopt   Kind = "adopt"
	Release Kind = "release"
	Rename  Kind = "rename"
	Same    Kind = "same"
)

// Proposal is the previewed change of some wards in one environment. It holds
// everything that enacting needs, and can be kept as JSON.
type Proposal struct {
	Head
	Wards   []WardAt  `json:"wards"`
	Counts  Counts    `json:"counts"`
	Actions []*Action `json:"actions"` // by ward and address
	Findings
	Forecast Forecast `json:"forecast"`
	Cost     *Cost    `json:"cost"`               // nil when no type has a price
	Currency string   `json:"currency,omitempty"` // of its amounts; "" where kasbah.toml does not say
	// Rehearsed says what clouds were asked before the run; nil where none could be.
	Rehearsed *Rehearsed `json:"rehearsed,omitempty"`
	// Readings are the values of other estates that it rests on.
	Readings []Reading `json:"readings,omitempty"`
	// Approvals are the signatures that it needs, by ward.
	Approvals []Approval `json:"approvals,omitempty"`
	// Digest is that of all else, in a kept proposal.
	Digest string `json:"digest,omitempty"`

	judged *rules.Report
}

// Head says what a proposal is for, and who made it.
type Head struct {
	Format  string    `json:"format"`
	ID      string    `json:"id"`
	Estate  string    `json:"estate"`
	Env     string    `json:"env"`
	Made    time.Time `json:"made"`
	By      string    `json:"by"`
	ByKey   string    `json:"by_key,omitempty"` // public key of who proposed it, which signs it in a file
	Program string    `json:"program"`
	Commit  string    `json:"commit,omitempty"` // of the estate's repository, in a file
	Offline bool      `json:"offline"`          // live was not read
	Raze    bool      `json:"raze,omitempty"`
}

// Findings are what is to be known about a proposal beside its actions.
type Findings struct {
	Warnings   []string        `json:"warnings"`
	Rules      []rules.Finding `json:"rules"` // of the stages declared and proposed, but for what passed
	RuleCounts RuleCounts      `json:"rule_counts"`
	Steps      []steps.Ran     `json:"steps,omitempty"` // that ran, and how each ended
	Data       []string        `json:"data"`            // addresses with their ward whose data would be lost
	Security   []string        `json:"security"`        // and those whose security changes
	Blocked    []Block         `json:"blocked"`         // what forbids the proposal as a whole
	Left       []LeftAlone     `json:"left"`            // attributes no longer declared that stay
	LeftOut    int             `json:"left_out"`        // resources that -only left out
	Unfinished []Unfinished    `json:"unfinished"`      // calls whose end is not known, taken as done
	NotAssured []string        `json:"not_assured"`
	Finds      []Found         `json:"finds,omitempty"` // things that are looked up
}

// Reading is a value that a ward reads of another estate, and the entry of the ledger there that it rests on.
type Reading struct {
	Ward  string    `json:"ward"` // that reads
	From  string    `json:"from"` // as `harbour:shore`
	Name  string    `json:"name"`
	Env   string    `json:"env"` // of the other estate
	Value value.Any `json:"value"`
	Entry int64     `json:"entry"`
	Hash  string    `json:"hash"`
}

// Rehearsed counts the calls that a proposal would make.
type Rehearsed struct {
	Calls   int `json:"calls"`
	Tried   int `json:"tried"`   // without effect
	Refused int `json:"refused"` // what the clouds would refuse: each blocks the proposal
}

// Approval says which signatures a ward's part of a proposal needs, by the
// policy that is in force there.
type Approval struct {
	Ward       string            `json:"ward"`
	Policy     string            `json:"policy"` // digest of the policy in force; "" when there is none
	Signatures int               `json:"signatures"`
	Keys       map[string]string `json:"keys"` // who may sign, with their public keys
	Because    []string          `json:"because"`
	Until      time.Time         `json:"until"` // it must have been begun
}

// WardAt is a ward and the entry of its ledger that the proposal saw.
type WardAt struct {
	Ward      string               `json:"ward"`
	Entry     int64                `json:"entry"`
	Hash      string               `json:"hash,omitempty"`
	Files     map[string]string    `json:"files,omitempty"`     // path -> SHA-256
	Published map[string]value.Any `json:"published,omitempty"` // may hold pending values
	Reads     []string             `json:"reads,omitempty"`     // values of other wards, as `shore quay_ids`
	Republish bool                 `json:"republish,omitempty"` // the published values are not yet what the ledger has
	Approval  *PolicyChange        `json:"approval,omitempty"`  // who must sign is about to change
}

// PolicyChange is a change of who must sign proposals. It is itself judged by
// the policy that was.
type PolicyChange struct {
	Was    *approval.Policy `json:"was"`
	WillBe *approval.Policy `json:"will_be"`
}

// Found is a thing that exists, is not managed here, and is referred to.
type Found struct {
	Ward       string           `json:"ward"`
	Address    string           `json:"address"` // of the look-up, without its ward: what references name
	Type       string           `json:"type"`    // with its driver
	Match      value.Attributes `json:"match"`   // what it is found by; may hold pending values
	ID         string           `json:"id,omitempty"`
	From       foundFrom        `json:"from"`
	Attributes value.Attributes `json:"attributes,omitempty"` // nil when it was not looked up
	Position   problem.Position `json:"position"`
}

// foundFrom says where what is known of a found thing comes from.
type foundFrom string

const (
	FromLive    foundFrom = "live"
	FromLastRun foundFrom = "last run" // offline: as the last run found it
	FromLater   foundFrom = "later"    // what it is found by is known in enact only
	FromNowhere foundFrom = "nowhere"  // offline, and no run has looked it up yet
)

// Full is the address with its ward.
func (f *Found) Full() string { return value.InWard(f.Ward, f.Address) }

// Idle reports whether enacting the proposal would write nothing.
func (p *Proposal) Idle() bool {
	if p.Counts.Changing() > 0 || len(p.Unfinished) > 0 {
		return false
	}
	for _, w := range p.Wards {
		if w.Republish || w.Approval != nil {
			return false
		}
	}
	for _, a := range p.Actions {
		if a.Plan != nil && a.Plan.RecordOnly {
			return false
		}
	}
	return true
}

// Counts counts the actions. Their sum is the number of resources.
type Counts struct {
	New     int `json:"new"`
	Edit    int `json:"edit"`
	Swap    int `json:"swap"`
	Drop    int `json:"drop"`
	Adopt   int `json:"adopt"`
	Release int `json:"release"`
	Rename  int `json:"rename"`
	Same    int `json:"same"`
}

// Changing is the number of actions that are not same.
func (c Counts) Changing() int {
	return c.New + c.Edit + c.Swap + c.Drop + c.Adopt + c.Release + c.Rename
}

func (c *Counts) add(k Kind) {
	switch k {
	case New:
		c.New++
	case Edit:
		c.Edit++
	case Swap:
		c.Swap++
	case Drop:
		c.Drop++
	case Adopt:
		c.Adopt++
	case Release:
		c.Release++
	case Rename:
		c.Rename++
	case Same:
		c.Same++
	}
}

// Block is a reason why nothing can be enacted.
type Block struct {
	Ward     string           `json:"ward"`
	Address  string           `json:"address"`
	Because  string           `json:"because"`
	Position problem.Position `json:"position"`
	Rule     string           `json:"rule,omitempty"` // that blocks it
}

// Sentence says what is blocked, where it is declared, and why.
func (b *Block) Sentence() string {
	said := b.Because
	for _, s := range []string{b.Address, b.Position.Short()} {
		if s != "" {
			said = s + ": " + said
		}
	}
	return said
}

// LeftAlone is an attribute that is no longer declared and stays as it is.
type LeftAlone struct {
	Ward    string `json:"ward"`
	Address string `json:"address"`
	Path    string `json:"path"`
}

// Unfinished is a call of a dead run.
type Unfinished struct {
	Ward    string `json:"ward"`
	Run     string `json:"run"`
	Address string `json:"address"`
	Call    string `json:"call"`
}

// Action is one resource's part in a proposal.
type Action struct {
	Ward    string `json:"ward"`
	Address string `json:"address"`
	Type    string `json:"type"` // with its driver
	Kind    Kind   `json:"action"`
	Because string `json:"because,omitempty"`
	// the address with its ward under which it is recorded until the run moves it
	Was      string           `json:"was,omitempty"`
	Adopts   string           `json:"adopts,omitempty"` // the id of the thing that is taken under management
	Position problem.Position `json:"position"`
	Via      []string         `json:"via,omitempty"`
	Needs    []string         `json:"needs"` // addresses with their ward
	Changes  []Change         `json:"changes"`
	Kit      string           `json:"kit,omitempty"`     // the kit that declares it, the outermost
	Cost     *Cost            `json:"cost,omitempty"`    // nil when it is not known
	Seconds  float64          `json:"seconds,omitempty"` // by the forecast; 0 when nothing is known
	Undo     string           `json:"undo,omitempty"`    // how enacting can take it back; "" for same

	Plan *Plan `json:"plan,omitempty"` // nil for same
}

// WasShort is Was for people in the action's ward.
func (a *Action) WasShort() string {
	if ward, short := value.SplitWard(a.Was); ward == a.Ward {
		return short
	}
	return a.Was
}

// Full is the address with its ward.
func (a *Action) Full() string { return value.InWard(a.Ward, a.Address) }

// Leaves reports whether the resource is managed no more afterwards.
func (a *Action) Leaves() bool { return a.Kind == Drop || a.Kind == Release }

// Remakes reports whether the action makes another thing in the cloud: what
// the cloud decides about it is then not known before. A swap that only
// clears away what an unfinished one has left does not.
func (a *Action) Remakes() bool {
	switch a.Kind {
	case New:
		return true
	case Swap:
		s := a.Plan.Seen
		return s.ID == "" || len(s.Leftovers) == 0 || a.Plan.Asked || fixedReason(a.Changes) != ""
	}
	return false
}

// Change is one attribute of an action, at the depth at which it differs.
type Change struct {
	Path     string    `json:"path"`
	Was      value.Any `json:"was"`
	WillBe   value.Any `json:"will_be"`
	From     string    `json:"from,omitempty"` // the source of a value not known yet
	Fixed    bool      `json:"fixed,omitempty"`
	Secret   bool      `json:"secret,omitempty"`
	Security bool      `json:"security,omitempty"`
	ByHand   bool      `json:"by_hand,omitempty"` // live was not as recorded
}

// Plan is what enacting an action needs.
type Plan struct {
	Inputs value.Attributes `json:"inputs,omitempty"` // as they are to be; may hold pending values
	Order  string           `json:"order,omitempty"`  // of a swap: create-first or drop-first
	// a swap that somebody asked for: no attribute is the reason
	Asked         bool        `json:"asked,omitempty"`
	Care          schema.Care `json:"care"`
	Kit           string      `json:"kit,omitempty"`
	Declared      string      `json:"declared,omitempty"` // fingerprint of the declaration
	DriverVersion string      `json:"driver_version,omitempty"`
	HoldsData     bool        `json:"holds_data,omitempty"`
	CopyFirst     bool        `json:"copy_first,omitempty"` // a copy of what is removed is kept
	Exclusive     bool        `json:"exclusive,omitempty"`  // two of the type may not share a name or a range
	// LetGo are references that an edit takes away first, because what they
	// lead to must go before what replaces it can be made.
	LetGo []string `json:"let_go,omitempty"`
	// Stay are those of LetGo of which something stays meanwhile: lists of
	// references, without what goes.
	Stay value.Attributes `json:"stay,omitempty"`
	// Positions of the attributes' values, for what the cloud says about them.
	Positions map[string]problem.Position `json:"positions,omitempty"`

	// After are other actions, by full address, that may move an output which this one
	// uses: it is carried out after them.
	After []string `json:"after,omitempty"`

	// Uses are the attributes of other resources that the inputs were made
	// from: what they must still be when the action is carried out.
	Uses []Use `json:"uses,omitempty"`

	// What the proposal saw. Seen is nil where nothing was recorded.
	Seen *Seen `json:"seen,omitempty"`
	// RecordOnly: nothing is done in the cloud; only the record's needs and
	// care move, or what it says becomes what is so. The action is same.
	RecordOnly bool `json:"record_only,omitempty"`
}

// Use is an attribute of another resource, as the proposal saw it.
type Use struct {
	Address string    `json:"address"` // with its ward
	Path    string    `json:"path"`
	Value   value.Any `json:"value"`
}

// Seen is what was recorded and live when the proposal was made.
type Seen struct {
	Version   int64             `json:"version"`
	ID        string            `json:"id"`
	Tag       string            `json:"tag,omitempty"`
	Inputs    value.Attributes  `json:"inputs"`
	Live      value.Attributes  `json:"live,omitempty"` // nil when it was not read, or is gone
	Gone      bool              `json:"gone,omitempty"`
	Needs     []string          `json:"needs,omitempty"`
	Leftovers []ledger.Leftover `json:"leftovers,omitempty"`
	// Unfinished: the record is what an unfinished call intended.
	Unfinished bool `json:"unfinished,omitempty"`
}
