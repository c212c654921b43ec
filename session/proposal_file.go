package session

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"slices"

	"golang.org/x/crypto/ssh"

	"kasbah/core/approval"
	"kasbah/core/disk"
	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/core/seal"
	"kasbah/home"
)

const maxProposal = 1 << 30 // bytes

// ProposalFile is a proposal that was kept in a file.
type ProposalFile struct {
	Path     string
	Proposal *propose.Proposal
	Envelope *approval.Envelope // with its signatures, if it has any

	payload []byte         // what is signed
	head    *seal.FileHead // nil when it is not sealed
}

// refuse says what is wrong with the file.
func (f *ProposalFile) refuse(err error) error {
	return &enact.Refused{Reasons: []string{fmt.Sprintf("%s: %v", f.Path, err)}}
}

// readProposal reads a proposal from a file. What is not as it was kept is refused.
func readProposal(path string, home func() (*home.Home, error)) (*ProposalFile, error) {
	body, err := disk.Read(path, maxProposal)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no file %s: `kasbah propose -o FILE` keeps a proposal", path)
	}
	if err != nil {
		return nil, err
	}
	f := &ProposalFile{Path: path}
	if seal.IsSealedFile(body) {
		home, err := home()
		if err != nil {
			return nil, err
		}
		if body, f.head, err = seal.OpenFile(body, home.Identities); err != nil {
			if errors.Is(err, seal.ErrDamaged) {
				return nil, f.refuse(err)
			}
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	if !bytes.HasPrefix(bytes.TrimSpace(body), []byte("{")) {
		return nil, fmt.Errorf("%s is not a proposal", path)
	}
	if f.Proposal, f.Envelope, err = propose.ReadKept(body); err != nil {
		return nil, f.refuse(err)
	}
	if f.payload, err = f.Envelope.DecodeB64Payload(); err != nil {
		return nil, f.refuse(err)
	}
	return f, nil
}

// OpenProposal reads a proposal from a file, opens a session for its wards and environment,
// and holds it against the estate: who made it, and that it shows what it does.
func OpenProposal(ctx context.Context, c Config, path string) (*ProposalFile, *Session, error) {
	f, err := readProposal(path, c.Home)
	if err != nil {
		return nil, nil, err
	}
	c.Wards = nil
	for _, w := range f.Proposal.Wards {
		c.Wards = append(c.Wards, w.Ward)
	}
	if c.Env != "" && c.Env != f.Proposal.Env {
		return nil, nil, problem.Usage("%s was proposed for %s, and -env is %s", path, f.Proposal.Env, c.Env)
	}
	c.Env = f.Proposal.Env
	s, err := Open(ctx, c)
	if err != nil {
		return nil, s, err
	}
	if f.Proposal.Estate != s.Estate.Name {
		return nil, s, fmt.Errorf("%s was proposed for the estate %s, and this is %s", path, f.Proposal.Estate,
			s.Estate.Name)
	}
	states, err := s.States(ctx)
	if errors.Is(err, seal.ErrNoIdentity) { // of one who may see this proposal alone
		s.tell("The ledger is sealed to others: what %s says of what is recorded, and that the estate made it, could "+
			"not be checked.", path)
		states, err = nil, nil
	}
	if err != nil {
		return nil, s, err
	}
	return f, s, f.stands(ctx, s, states)
}

// stands is an error unless someone who may write the estate made the proposal, and it shows what it
// does. states are nil for one who cannot read them.
func (f *ProposalFile) stands(ctx context.Context, s *Session, states map[string]*ledger.State) error {
	if err := f.proven(ctx, s, states); err != nil {
		return err
	}
	set, err := s.Rules(ctx)
	if err != nil {
		return err
	}
	err = f.Proposal.Stands(ctx, propose.Standing{Catalogs: s.Catalogs, States: states, Rules: set,
		Currency: s.Estate.Prices.Currency})
	var shown *propose.ShownError
	if errors.As(err, &shown) {
		return f.refuse(err)
	}
	return err
}

// proven is an error unless someone who may write the estate made the proposal.
func (f *ProposalFile) proven(ctx context.Context, s *Session, states map[string]*ledger.State) error {
	if s.Box != nil && f.head == nil {
		return f.refuse(errors.New("it is not sealed, and this estate seals its proposals: it may have been made " +
			"without the estate's key; propose again"))
	}
	if s.Box != nil && states != nil {
		if err := s.Box.Proves(ctx, f.payload, f.head.Proof); errors.Is(err, seal.ErrForged) {
			return f.refuse(errors.New("it was not made with the estate's current key: another person made it, or " +
				"the key has changed since; propose again"))
		} else if err != nil {
			return err
		}
	}
	for _, w := range f.Proposal.Wards {
		if writers := s.Estate.Writers(s.Env, w.Ward); len(writers) > 0 {
			if err := f.Proposal.WrittenBy(f.Envelope, writers); err != nil {
				return f.refuse(err)
			}
		}
	}
	return nil
}

// CompareProposals says what the proposal of one file would do that that of another one, which was reviewed, would
// not. The ledgers may have moved since the review.
func CompareProposals(ctx context.Context, c Config, reviewed, now string) (d *propose.Against, err error) {
	f, s, err := OpenProposal(ctx, c, now)
	if s != nil {
		defer func() { err = errors.Join(err, s.Close()) }()
	}
	if err != nil {
		return nil, err
	}
	old, err := readProposal(reviewed, c.Home)
	if err != nil {
		return nil, err
	}
	states, err := s.States(ctx)
	if errors.Is(err, seal.ErrNoIdentity) { // as OpenProposal has told
		states, err = nil, nil
	}
	if err == nil {
		err = old.proven(ctx, s, states)
	}
	if err != nil {
		return nil, err
	}
	return propose.NewAgainst(old.Proposal, f.Proposal), nil
}

// SameLedgers is an error where a ledger is not the one that the proposal was made from, or
// one that goes on from it.
func (f *ProposalFile) SameLedgers(ctx context.Context, s *Session) error {
	for _, w := range f.Proposal.Wards {
		err := s.Ledgers[w.Ward].Contains(ctx, w.Entry, w.Hash)
		var other *ledger.RollbackError
		if errors.As(err, &other) {
			return &enact.Refused{Reasons: []string{fmt.Sprintf("%s was made from entry %d of the ledger of %s, and "+
				"the ledger here has another one, or ends before it: it is another ledger, or an old copy was put back",
				f.Path, w.Entry, w.Ward)}}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// save writes the file again, with the signatures that its envelope has now. What proves who
// made the proposal stays as it is.
func (f *ProposalFile) save() error {
	body, err := enveloped(f.Envelope)
	if err != nil {
		return err
	}
	if f.head != nil {
		if body, err = seal.SealFile(body, *f.head); err != nil {
			return err
		}
	}
	return disk.ReplacePrivate(f.Path, body)
}

// Signer is the key that signs: that of a file, or without one a key of the SSH agent that may sign.
func (f *ProposalFile) Signer(file string, ask func() (string, error)) (ssh.Signer, error) {
	if file != "" {
		return home.PrivateKey(file, ask)
	}
	var may []string
	for _, a := range f.Proposal.Approvals {
		may = append(may, slices.Collect(maps.Values(a.Keys))...)
	}
	if s := home.AgentSigner(may); s != nil {
		return s, nil
	}
	return nil, problem.Usage("approve needs a private key: -key FILE, or an SSH agent that holds one of those who may sign")
}

// Sign signs the proposal, and keeps the signature in the file.
func (f *ProposalFile) Sign(signer ssh.Signer) (*propose.Signing, error) {
	added, err := f.Envelope.Sign(signer)
	if err != nil {
		return nil, err
	}
	if added {
		if err := f.save(); err != nil {
			return nil, fmt.Errorf("the signature could not be kept: %w", err)
		}
	}
	d := &propose.Signing{Format: "kasbah.approval/1", File: f.Path, Proposal: f.Proposal.ID, Added: added,
		Key: approval.Fingerprint(signer.PublicKey())}
	d.Wards, err = f.Signatures(d.Key)
	return d, err
}

// Signatures are what the signatures come to, ward by ward, and what that of one key adds, by
// its fingerprint; "" for none.
func (f *ProposalFile) Signatures(key string) ([]propose.Signed, error) {
	out := []propose.Signed{}
	for _, x := range f.Proposal.Approvals {
		w, err := f.Proposal.SignedFor(x, f.Envelope, key)
		if err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	return out, nil
}

func enveloped(e *approval.Envelope) ([]byte, error) {
	body, err := json.MarshalIndent(e.Envelope, "", "  ")
	return append(body, '\n'), err
}

// Keep writes a proposal to a file, whole or not at all, signed by who proposes it. It is
// sealed as the ledger is, and to some more readers.
func (s *Session) Keep(ctx context.Context, path string, p *propose.Proposal, more []string) error {
	p.Commit = s.Commit(ctx)
	payload, err := p.Seal()
	if err != nil {
		return err
	}
	body := payload
	if p.ByKey != "" {
		signer, err := s.signer([]string{p.ByKey})
		if err != nil {
			return err
		}
		e := approval.Wrap(payload)
		if _, err := e.Sign(signer); err != nil {
			return err
		}
		if body, err = enveloped(e); err != nil {
			return err
		}
	}
	switch {
	case s.Box != nil:
		head := seal.FileHead{Recipients: slices.Clone(s.Box.Recipients)}
		for _, r := range more {
			head.Recipients = append(head.Recipients, estate.PublicKey(r))
		}
		if head.Proof, err = s.Box.Proof(ctx, payload); err != nil {
			return fmt.Errorf("the proposal could not be proven: %w", err)
		}
		if body, err = seal.SealFile(body, head); err != nil {
			return fmt.Errorf("the proposal could not be sealed: %w", err)
		}
	case len(more) > 0:
		return problem.Usage("-reader: the ledger is not sealed, so the proposal is not sealed either, and everyone " +
			"can read it")
	}
	if err := disk.ReplacePrivate(path, body); err != nil {
		return fmt.Errorf("the proposal could not be kept: %w", err)
	}
	return nil
}
