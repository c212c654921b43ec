package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"kasbah/core/approval"
	"kasbah/core/disk"
	"kasbah/core/enact"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/seal"
)

const maxProposal = 1 << 30

// kept is a proposal from a file.
type kept struct {
	path     string
	proposal *propose.Proposal
	envelope *approval.Envelope // with its signatures, if it has any
	payload  []byte             // what is signed
	head     *seal.FileHead     // nil when it is not sealed
}

// refuse says what is wrong with the file.
func (k *kept) refuse(err error) error {
	return &enact.Refused{Reasons: []string{fmt.Sprintf("%s: %v", k.path, err)}}
}

// readKept reads a proposal from a file. What is not as it was kept is refused.
func (a *app) readKept(path string) (*kept, error) {
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no file %s: `kasbah propose -o FILE` keeps a proposal", path)
	}
	if err != nil {
		return nil, err
	}
	if info.Size() > maxProposal {
		return nil, fmt.Errorf("%s is larger than any proposal", path)
	}
	body, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	k := &kept{path: path}
	if seal.IsSealedFile(body) {
		home, err := a.home()
		if err != nil {
			return nil, err
		}
		if body, k.head, err = seal.OpenFile(body, home.Identities); err != nil {
			if errors.Is(err, seal.ErrDamaged) {
				return nil, k.refuse(err)
			}
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	if !bytes.HasPrefix(bytes.TrimSpace(body), []byte("{")) {
		return nil, fmt.Errorf("%s is no proposal", path)
	}
	if k.proposal, k.envelope, err = propose.ReadKept(body); err != nil {
		return nil, k.refuse(err)
	}
	if k.payload, err = k.envelope.DecodeB64Payload(); err != nil {
		return nil, k.refuse(err)
	}
	return k, nil
}

// kept reads a proposal from a file and holds it against the estate that it is for: who
// made it, and that it shows what it does.
func (a *app) kept(ctx context.Context, path string) (*kept, *project, error) {
	k, err := a.readKept(path)
	if err != nil {
		return nil, nil, err
	}
	var wards []string
	for _, w := range k.proposal.Wards {
		wards = append(wards, w.Ward)
	}
	if a.env != "" && a.env != k.proposal.Env {
		return nil, nil, problem.Usage("%s was proposed for %s, and -env is %s", path, k.proposal.Env, a.env)
	}
	a.env = k.proposal.Env
	p, err := a.open(ctx, wards)
	if err != nil {
		return nil, nil, err
	}
	if k.proposal.Estate != p.estate.Name {
		return nil, nil, fmt.Errorf("%s was proposed for the estate %s, and this is %s", path, k.proposal.Estate, p.estate.Name)
	}
	if err := a.rulesFor(ctx, p); err != nil {
		return nil, nil, err
	}
	states, err := p.states(ctx)
	if errors.Is(err, seal.ErrNoIdentity) { // of one who may see this proposal alone
		a.say("The ledger is sealed to others: what %s says of what is recorded, and that the estate made it, could not be held against it.", path)
		states, err = nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	return k, p, k.stands(ctx, p, states)
}

// stands is an error unless somebody of the estate made the proposal, and it shows what it
// does. states are nil for one who cannot read them.
func (k *kept) stands(ctx context.Context, p *project, states map[string]*ledger.State) error {
	if p.box != nil && k.head == nil {
		return k.refuse(errors.New("it is not sealed, and this estate seals its proposals: it may have been made without the estate's key; propose again"))
	}
	if p.box != nil && states != nil {
		if err := p.box.Proves(ctx, k.payload, k.head.Proof); errors.Is(err, seal.ErrForged) {
			return k.refuse(errors.New("it was not made with the estate's current key: another person made it, or the key has changed since; propose again"))
		} else if err != nil {
			return err
		}
	}
	for _, w := range k.proposal.Wards {
		if writers := p.estate.Writers(p.env, w.Ward); len(writers) > 0 {
			if err := k.proposal.WrittenBy(k.envelope, writers); err != nil {
				return k.refuse(err)
			}
		}
	}
	err := k.proposal.Stands(ctx, propose.Standing{Catalogs: p.catalogs, States: states, Rules: p.rules})
	var shown *propose.ShownError
	if errors.As(err, &shown) {
		return k.refuse(err)
	}
	return err
}

// keep writes the file anew, with the signatures that its envelope has now. What proves who
// made the proposal stays as it is.
func (k *kept) keep() error {
	body, err := enveloped(k.envelope)
	if err != nil {
		return err
	}
	if k.head != nil {
		if body, err = seal.SealFile(body, *k.head); err != nil {
			return err
		}
	}
	return disk.Replace(k.path, body, 0o600)
}

func enveloped(e *approval.Envelope) ([]byte, error) {
	body, err := json.MarshalIndent(e.Envelope, "", "  ")
	return append(body, '\n'), err
}

// proposerKey is the public key of who proposes; "" for none.
func (a *app) proposerKey(p *project, states map[string]*ledger.State) (string, error) {
	k, err := a.proposer(p, states)
	if err != nil || k == nil {
		return "", err
	}
	return k.Public, nil
}
