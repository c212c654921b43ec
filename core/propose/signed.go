package propose

import (
	"slices"

	"kasbah/core/approval"
)

// Signed is what the signatures of a kept proposal come to for a ward that asks for some.
type Signed struct {
	Ward   string   `json:"ward"`
	Wanted int      `json:"wanted"`
	By     []string `json:"by"`     // whose signatures count
	Counts bool     `json:"counts"` // that of the key in question does
	Why    string   `json:"why,omitempty"`
}

// Signing is the JSON form of what a signature came to.
type Signing struct {
	Format   string   `json:"format"`
	File     string   `json:"file"`
	Proposal string   `json:"proposal"`
	Key      string   `json:"key"`   // fingerprint
	Added    bool     `json:"added"` // false when it was signed by the key before
	Wards    []Signed `json:"wards"` // those that ask for signatures
}

// Ready reports whether every ward has the signatures that it asks for.
func (s *Signing) Ready() bool {
	return !slices.ContainsFunc(s.Wards, func(w Signed) bool { return len(w.By) < w.Wanted })
}

// SignedFor counts the signatures for a ward, and says what that of one key adds, by its
// fingerprint; "" for none.
func (p *Proposal) SignedFor(x Approval, e *approval.Envelope, fingerprint string) (Signed, error) {
	s := Signed{Ward: x.Ward, Wanted: x.Signatures, By: []string{}}
	checked, err := e.Check(x.Keys)
	if err != nil {
		return s, err
	}
	who, proposer := "", p.Proposer(e, x.Keys)
	for name, text := range x.Keys {
		if k, err := approval.Public(text); err == nil && approval.Fingerprint(k) == fingerprint {
			who = name
		}
	}
	s.By = append(s.By, slices.DeleteFunc(checked.By, func(n string) bool { return n == proposer })...)
	switch who {
	case "":
		s.Why = "the key is not listed there"
	case proposer:
		s.Why = who + " proposed it, whose own signature does not count"
	default:
		s.Counts = true
	}
	return s, nil
}
