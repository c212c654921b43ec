package cli

import (
	"context"
	"flag"
	"fmt"
	"time"

	"kasbah/core/approval"
	"kasbah/core/enact"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/render"
	"kasbah/session"
)

// approvalDocument is the JSON form of what a signature came to.
type approvalDocument struct {
	Format   string           `json:"format"`
	File     string           `json:"file"`
	Proposal string           `json:"proposal"`
	Key      string           `json:"key"`   // fingerprint
	Added    bool             `json:"added"` // false when it was signed by the key before
	Wards    []propose.Signed `json:"wards"` // those that ask for signatures
}

func approveCommand() *command {
	var key string
	return &command{
		Name: "approve", Short: "sign a kept proposal that another person made", Args: "FILE",
		Long: "Shows the proposal, and signs it with your private key. It needs [approval] in kasbah.toml, " +
			"which lists the people who may sign. The signature of the person who made the proposal does " +
			"not count.",
		Examples: [2]string{"kasbah approve change.json -key ~/.ssh/id_ed25519",
			"kasbah approve change.json -key keeper-2.pem -yes"},
		Flags: func(fs *flag.FlagSet) {
			fs.StringVar(&key, "key", "", "the private key, a `file`: Ed25519 or another SSH key")
		},
		Run: func(ctx context.Context, a *app, args []string) error {
			switch {
			case len(args) != 1:
				return problem.Usage("approve needs one file that propose -o has kept")
			case key == "":
				return problem.Usage("approve needs a private key: -key FILE")
			}
			return a.approve(ctx, args[0], key)
		},
	}
}

func (a *app) approve(ctx context.Context, path, key string) error {
	k, _, err := a.openProposal(ctx, path)
	if err != nil {
		return err
	}
	p, e := k.Proposal, k.Envelope
	if !a.json && !a.quiet {
		signed, err := signatures(k)
		if err != nil {
			return err
		}
		a.out().Proposal(p, render.ProposalOptions{Now: time.Now(), Signed: signed})
		if err := a.flush(); err != nil {
			return err
		}
	}
	signer, err := a.privateKey(key)
	if err != nil {
		return err
	}
	id := approval.Fingerprint(signer.PublicKey())
	switch {
	case a.yes:
	case !a.interactive():
		return &enact.Refused{Reasons: []string{"no terminal to ask at; -yes signs it"}}
	default:
		got, err := a.ask(ctx, fmt.Sprintf("Sign it with %s? Type y:", id))
		if err != nil {
			return err
		}
		if !isYes(got) {
			return &enact.Refused{Reasons: []string{"not signed"}}
		}
	}
	added, err := e.Sign(signer)
	if err != nil {
		return err
	}
	if added {
		if err := k.Save(); err != nil {
			return fmt.Errorf("the signature could not be kept: %w", err)
		}
	}
	doc := approvalDocument{Format: "kasbah.approval/1", File: path, Proposal: p.ID, Key: id, Added: added,
		Wards: []propose.Signed{}}
	for _, x := range p.Approvals {
		w, err := p.SignedFor(x, e, id)
		if err != nil {
			return err
		}
		doc.Wards = append(doc.Wards, w)
	}
	if a.json {
		return a.document(doc)
	}
	a.tellApproval(doc)
	return nil
}

// signatures says which of the signatures that a kept proposal needs it has.
func signatures(k *session.ProposalFile) ([]string, error) {
	var lines []string
	for _, x := range k.Proposal.Approvals {
		w, err := k.Proposal.SignedFor(x, k.Envelope, "")
		if err != nil {
			return nil, err
		}
		lines = append(lines, "Signed for "+render.Signed(w)+".")
	}
	return lines, nil
}

// openProposal reads a kept proposal and opens a session for it.
func (a *app) openProposal(ctx context.Context, path string) (*session.ProposalFile, *session.Session, error) {
	k, s, err := session.OpenProposal(ctx, a.config(a.env, nil), path)
	a.closeLater(s)
	return k, s, err
}

func (a *app) tellApproval(doc approvalDocument) {
	if a.quiet {
		return
	}
	out := a.out()
	if doc.Added {
		out.Printf("Signed with %s.\n", doc.Key)
	} else {
		out.Printf("It was signed with %s before.\n", doc.Key)
	}
	if len(doc.Wards) == 0 {
		out.Printf("No ward asks for a signature; kasbah enact %s carries it out.\n", doc.File)
		return
	}
	ready := true
	for _, w := range doc.Wards {
		line := render.Signed(w)
		if w.Why != "" {
			line += "; this one does not count: " + w.Why
		}
		ready = ready && len(w.By) >= w.Wanted
		out.Printf("%s\n", render.Wrap(line+".", a.outWidth-2, "  "))
	}
	if ready {
		out.Printf("Carry it out with: kasbah enact %s\n", doc.File)
	}
}
