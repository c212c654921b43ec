package cli

import (
	"bufio"
	"context"
	"fmt"
	"strings"

	"kasbah/core/enact"
)

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
