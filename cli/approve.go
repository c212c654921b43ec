package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"

	"kasbah/core/approval"
	"kasbah/core/enact"
	"kasbah/core/problem"
	"kasbah/core/propose"
	"kasbah/render"
)

// approvalDocument is the JSON form of what a signature came to.
type approvalDocument struct {
	Format   string         `json:"format"`
	File     string         `json:"file"`
	Proposal string         `json:"proposal"`
	Key      string         `json:"key"`   // fingerprint
	Added    bool           `json:"added"` // false when it was signed by the key before
	Wards    []wardApproval `json:"wards"` // those that ask for signatures
}

type wardApproval struct {
	Ward   string   `json:"ward"`
	Wanted int      `json:"wanted"`
	By     []string `json:"by"`     // whose signatures count
	Counts bool     `json:"counts"` // this one does
	Why    string   `json:"why,omitempty"`
}

func approveCommand() *command {
	var key string
	return &command{
		name: "approve", line: "sign a kept proposal, as somebody other than who made it", args: "FILE",
		examples: [2]string{"kasbah approve change.json -key ~/.ssh/id_ed25519", "kasbah approve change.json -key keeper-2.pem -yes"},
		flags: func(fs *flag.FlagSet) {
			fs.StringVar(&key, "key", "", "the private key, a `file`: Ed25519 or another SSH key")
		},
		run: func(ctx context.Context, a *app, args []string) error {
			switch {
			case len(args) != 1:
				return problem.Usage("approve wants one file, which propose -o has kept")
			case key == "":
				return problem.Usage("approve wants a private key: -key FILE")
			}
			return a.approve(ctx, args[0], key)
		},
	}
}

func (a *app) approve(ctx context.Context, path, key string) error {
	k, _, err := a.kept(ctx, path)
	if err != nil {
		return err
	}
	p, e := k.proposal, k.envelope
	if !a.json && !a.quiet {
		signed, err := signatures(p, e)
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
		if err := k.keep(); err != nil {
			return fmt.Errorf("the signature could not be kept: %w", err)
		}
	}
	doc := approvalDocument{Format: "kasbah.approval/1", File: path, Proposal: p.ID, Key: id, Added: added, Wards: []wardApproval{}}
	for _, x := range p.Approvals {
		w, err := signedFor(p, x, e, id)
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

// signedFor is what the signatures come to for a ward that asks for some, and
// what that of one key, by its fingerprint, adds to it.
func signedFor(p *propose.Proposal, x propose.Approval, e *approval.Envelope, id string) (wardApproval, error) {
	w := wardApproval{Ward: x.Ward, Wanted: x.Signatures, By: []string{}}
	signed, err := e.Check(x.Keys)
	if err != nil {
		return w, err
	}
	who, proposer := "", p.Proposer(e, x.Keys)
	for name, text := range x.Keys {
		if k, err := approval.Public(text); err == nil && approval.Fingerprint(k) == id {
			who = name
		}
	}
	w.By = append(w.By, slices.DeleteFunc(signed.By, func(n string) bool { return n == proposer })...)
	switch who {
	case "":
		w.Why = "the key is not listed there"
	case proposer:
		w.Why = who + " proposed it, whose own signature does not count"
	default:
		w.Counts = true
	}
	return w, nil
}

// counted is how many signatures there are of those wanted, and whose.
func (w *wardApproval) counted() string {
	s := fmt.Sprintf("%s: %d of %s", w.Ward, len(w.By), render.Count(w.Wanted, "signature"))
	if len(w.By) > 0 {
		s += " (" + strings.Join(w.By, ", ") + ")"
	}
	return s
}

// signatures says which of the signatures that a kept proposal needs it has.
func signatures(p *propose.Proposal, e *approval.Envelope) ([]string, error) {
	var lines []string
	for _, x := range p.Approvals {
		w, err := signedFor(p, x, e, "")
		if err != nil {
			return nil, err
		}
		lines = append(lines, "Signed for "+w.counted()+".")
	}
	return lines, nil
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
		out.Printf("Nobody asks for a signature; kasbah enact %s carries it out.\n", doc.File)
		return
	}
	ready := true
	for _, w := range doc.Wards {
		line := w.counted()
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

// maxKey is more than any private key takes.
const maxKey = 1 << 20

// privateKey reads a private key, and asks for its passphrase without echo
// where it has one.
func (a *app) privateKey(path string) (ssh.Signer, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > maxKey {
		return nil, fmt.Errorf("%s is larger than any private key", path)
	}
	body, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	s, err := approval.Private(body, func() ([]byte, error) {
		f, ok := a.stdin.(*os.File)
		if !ok || !a.interactive() {
			return nil, errors.New("it has a passphrase, and there is no terminal to ask for it at")
		}
		fmt.Fprintf(a.errors, "Passphrase of %s: ", path)
		defer fmt.Fprintln(a.errors)
		return term.ReadPassword(int(f.Fd()))
	})
	if err != nil {
		return nil, fmt.Errorf("%s cannot sign: %w", path, err)
	}
	return s, nil
}
