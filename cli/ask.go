package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"sync"

	"golang.org/x/term"

	"kasbah/core/enact"
)

// questions remember what a person was asked.
type questions struct {
	answers     *bufio.Scanner // of what is typed
	asking      sync.Mutex
	passphrases map[string]string // typed already, by the question
}

// ask asks a person at the terminal and returns the answer without the spaces
// around it.
func (a *app) ask(ctx context.Context, question string) (string, error) {
	if a.answers == nil {
		a.answers = bufio.NewScanner(a.stdin)
	}
	fmt.Fprintf(a.errors, "%s ", question)
	answer := make(chan string, 1)
	go func() { // a read cannot be interrupted; the program ends without it
		defer close(answer)
		if a.answers.Scan() {
			answer <- strings.TrimSpace(a.answers.Text())
		}
	}()
	select {
	case text, ok := <-answer:
		if !ok {
			return "", &enact.Refused{Reasons: []string{"the answers ended before the questions"}}
		}
		return text, nil
	case <-ctx.Done():
		fmt.Fprintln(a.errors)
		return "", ctx.Err()
	}
}

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
	got, err := a.ask(ctx, question+" Type y:")
	if err == nil && !isYes(got) {
		err = &enact.Refused{Reasons: []string{no}}
	}
	return err
}

// askHidden asks for a text that the terminal does not show.
func (a *app) askHidden(what string) (string, error) {
	f, ok := a.stdin.(*os.File)
	if !ok || !a.interactive() {
		return "", errors.New("it has a passphrase, and there is no terminal to ask for it at")
	}
	fmt.Fprintf(a.errors, "%s ", what)
	defer fmt.Fprintln(a.errors)
	text, err := term.ReadPassword(int(f.Fd()))
	return string(text), err
}

// passphrase asks for one, each once.
func (a *app) passphrase(what string) (string, error) {
	a.asking.Lock()
	defer a.asking.Unlock()
	if text, ok := a.passphrases[what]; ok {
		return text, nil
	}
	text, err := a.askHidden(what)
	if err == nil {
		a.passphrases[what] = text
	}
	return text, err
}

// interactive reports whether a person can be asked.
func (a *app) interactive() bool {
	f, ok := a.stdin.(*os.File)
	return ok && term.IsTerminal(int(f.Fd())) && !a.json
}
