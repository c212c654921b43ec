package propose

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"kasbah/core/approval"
)

// approvals says which signatures the proposal needs, and notes a change of
// the policy.
func (w *proposer) approvals() {
	for i := range w.p.Wards {
		at := &w.p.Wards[i]
		force := w.o.States[at.Ward].Approval
		if will := w.o.Approval[at.Ward]; force.Digest() != will.Digest() {
			at.Approval = &PolicyChange{Was: force, WillBe: will}
		}
		if force == nil {
			continue
		}
		if because := w.p.asks(at, force); len(because) > 0 {
			w.p.Approvals = append(w.p.Approvals, Approval{
				Ward: at.Ward, Policy: force.Digest(), Signatures: w.p.wanted(force), Keys: force.Keys,
				Because: because, Until: force.Ends(w.p.Made),
			})
		}
	}
}

// ChangesPolicy reports whether enacting p changes who must sign.
func (p *Proposal) ChangesPolicy() bool {
	return slices.ContainsFunc(p.Wards, func(w WardAt) bool { return w.Approval != nil })
}

// asks lists why a policy asks for signatures for a ward's part of p.
func (p *Proposal) asks(at *WardAt, force *approval.Policy) []string {
	does := map[string]bool{}
	for _, a := range p.Actions {
		if a.Ward != at.Ward || a.Kind == Same {
			continue
		}
		does[string(a.Kind)] = true
		does["data"] = does["data"] || slices.Contains(p.Data, a.Full())
		does["security"] = does["security"] || slices.Contains(p.Security, a.Full())
	}
	out := force.Asks(does)
	if at.Approval != nil {
		out = append(out, "who must sign changes")
	}
	return out
}

// Approve says what still forbids a ward's part of p, under the policy that is
// in force there and with the signatures that there are. An empty sentence
// allows it.
func (p *Proposal) Approve(ward string, force *approval.Policy, e *approval.Envelope) (string, error) {
	if force == nil {
		return "", nil
	}
	i := slices.IndexFunc(p.Wards, func(w WardAt) bool { return w.Ward == ward })
	because := p.asks(&p.Wards[i], force)
	if len(because) == 0 {
		return "", nil
	}
	signed, err := e.Check(force.Keys)
	if err != nil {
		return "", err
	}
	proposer, wanted := p.Proposer(e, force.Keys), force.Signatures
	if proposer == "" {
		wanted++
	}
	counting := slices.DeleteFunc(signed.By, func(who string) bool { return who == proposer })
	if len(counting) >= wanted {
		return "", nil
	}
	s := fmt.Sprintf("%s asks for %s (%s)", ward, count(wanted, "signature"), strings.Join(because, ", "))
	if proposer == "" {
		s += ", one more because the proposer is not one of those who may sign"
	}
	s += ", and "
	switch n := len(counting); {
	case n > 0:
		s += "only " + strings.Join(counting, ", ") + " signed"
	case len(signed.Wrong) > 0:
		s += "that of " + strings.Join(signed.Wrong, ", ") + " is not over this proposal"
	case len(strangers(signed, p.ByKey)) > 0:
		s += "it is signed by a key that is not listed, " + strings.Join(strangers(signed, p.ByKey), ", ")
	case proposer != "":
		s += "only " + proposer + " signed, who proposed it"
	default:
		s += "no one signed"
	}
	return s, nil
}

// strangers are the fingerprints of signatures by no listed key, but for the proposer's.
func strangers(s approval.Signed, proposer string) []string {
	k, err := approval.Public(proposer)
	return slices.DeleteFunc(slices.Clone(s.Strangers), func(f string) bool {
		return err == nil &&
			f == approval.Fingerprint(k)
	})
}

// Proposer is who proposed p among those who may sign, proven by their key's signature; ""
// where that is nobody of them. A name proves nothing.
func (p *Proposal) Proposer(e *approval.Envelope, keys map[string]string) string {
	if p.proposedBy(e.SignedWith) != nil {
		return ""
	}
	return approval.Holder(keys, p.ByKey)
}

// wanted is how many signatures a policy asks for: one more than it says where who proposes
// is none of those who may sign, and so may hold one of their keys as well.
func (p *Proposal) wanted(force *approval.Policy) int {
	if approval.Holder(force.Keys, p.ByKey) == "" {
		return force.Signatures + 1
	}
	return force.Signatures
}

// WrittenBy is an error unless one of some public keys has signed p as who proposed it.
func (p *Proposal) WrittenBy(e *approval.Envelope, among []string) error {
	if err := p.proposedBy(e.SignedWith); err != nil {
		return err
	}
	keys := map[string]string{}
	for i, k := range among {
		keys[fmt.Sprint(i)] = k
	}
	if approval.Holder(keys, p.ByKey) == "" {
		return errors.New("who proposed it is not among [ledger] writers in kasbah.toml")
	}
	return nil
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// Seal gives p its digest and returns it as it is kept: JSON.
func (p *Proposal) Seal() ([]byte, error) {
	p.Digest = ""
	body, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	p.Digest = fmt.Sprintf("%x", sha256.Sum256(body))
	var out bytes.Buffer
	if err := json.Indent(&out, append(body[:len(body)-1], digestField(p.Digest)...), "", "  "); err != nil {
		return nil, err
	}
	out.WriteByte('\n')
	return out.Bytes(), nil
}

// digestField is how the compact JSON of a kept proposal ends. What comes
// before it, closed, is what the digest is of.
func digestField(digest string) string { return `,"digest":"` + digest + `"}` }

// errAltered is returned for a kept proposal that is not as it was kept.
var errAltered = errors.New("it was altered or cut since it was kept")

// ReadKept reads a proposal as Seal keeps it, in an envelope or without one,
// and returns its envelope, which then has no signatures.
func ReadKept(body []byte) (*Proposal, *approval.Envelope, error) {
	e, payload, signed, err := approval.Open(body)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", errAltered, err)
	}
	if !signed {
		e, payload = approval.Wrap(body), body
	}
	var p Proposal
	if err := json.Unmarshal(payload, &p); err != nil {
		return nil, nil, fmt.Errorf("%w: %w", errAltered, err)
	}
	var compact bytes.Buffer
	if err := json.Compact(&compact, payload); err != nil {
		return nil, nil, err
	}
	rest, ok := bytes.CutSuffix(compact.Bytes(), []byte(digestField(p.Digest)))
	switch {
	case p.Format != Format:
		return nil, nil, fmt.Errorf("it is of format %q, and this version of kasbah reads %s", p.Format, Format)
	case p.Digest == "":
		return nil, nil, errors.New("it has no digest: `kasbah propose -o FILE` keeps proposals")
	case !ok, p.Digest != fmt.Sprintf("%x", sha256.Sum256(append(rest, '}'))):
		return nil, nil, errAltered
	}
	return &p, e, p.Check()
}
