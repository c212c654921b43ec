package cli

import (
	"context"
	"flag"
	"fmt"
	"time"

	"kasbah/core/approval"
	"kasbah/render"
	"kasbah/session"
)

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
			fs.StringVar(&key, "key", "", "the private key, a `file`: Ed25519 or another SSH key; that of a public one stands "+
				"for a key of the SSH agent, and so does none")
		},
		Takes: exactly(1, "one file that propose -o has kept"),
		Run: func(ctx context.Context, a *app, args []string) error {
			return a.approve(ctx, args[0], key)
		},
	}
}

func (a *app) approve(ctx context.Context, path, key string) error {
	f, _, err := a.openProposal(ctx, path)
	if err != nil {
		return err
	}
	if !a.json && !a.quiet {
		signed, err := f.Signatures("")
		if err != nil {
			return err
		}
		a.out().Proposal(f.Proposal, render.ProposalOptions{Now: time.Now(), Signed: signed})
		if err := a.flush(); err != nil {
			return err
		}
	}
	signer, err := f.Signer(key, func() (string, error) { return a.hidden("Passphrase of " + key + ":") })
	if err != nil {
		return err
	}
	question := fmt.Sprintf("Sign it with %s?", approval.Fingerprint(signer.PublicKey()))
	if err := a.yesTo(ctx, question, "-yes signs it", "not signed"); err != nil {
		return err
	}
	d, err := f.Sign(signer)
	if err != nil || a.quiet && !a.json {
		return err
	}
	return show(a, d, (*render.Out).Signing)
}

// openProposal reads a kept proposal and opens a session for it.
func (a *app) openProposal(ctx context.Context, path string) (*session.ProposalFile, *session.Session, error) {
	k, s, err := session.OpenProposal(ctx, a.config(a.env, nil), path)
	a.closeLater(s)
	return k, s, err
}
