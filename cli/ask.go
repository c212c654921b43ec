package cli

import (
	"context"
	"errors"
	"strings"

	"kasbah/core/enact"
	"kasbah/dialogue"
)

// isYes reports whether an answer says yes.
func isYes(answer string) bool {
	return strings.EqualFold(answer, "y") || strings.EqualFold(answer, "yes")
}

// agree asks a yes-or-no question about writing files; -yes answers it.
func (a *app) agree(ctx context.Context, question string) error {
	return a.yesTo(ctx, question, "-yes writes it", "nothing is written")
}

// consentTo asks a yes-or-no question about changing the ledger.
func (a *app) consentTo(ctx context.Context, question string) error {
	return a.yesTo(ctx, question, "-yes consents", "not carried out")
}

func (a *app) yesTo(ctx context.Context, question, without, no string) error {
	if a.yes {
		return nil
	}
	if !a.interactive() {
		return &enact.Refused{Reasons: []string{"no terminal to ask at; " + without}}
	}
	got, err := a.person.Ask(ctx, question+" Type y:")
	if err == nil && !isYes(got) {
		err = &enact.Refused{Reasons: []string{no}}
	}
	return err
}

// hidden asks for a text that the terminal does not show; with -json it asks no one.
func (a *app) hidden(what string) (string, error) {
	if a.json {
		return "", errors.New("it has a passphrase, and -json asks for none")
	}
	return a.person.Passphrase(what)
}

// at is the person at the terminal, for a conversation.
func (a *app) at() dialogue.Terminal {
	return dialogue.Terminal{Person: a.person, Out: a.out(), Flush: a.flush, Say: a.say}
}

// interactive reports whether a person can be asked.
func (a *app) interactive() bool { return a.person.There() && !a.json }
