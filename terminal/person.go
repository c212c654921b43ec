package terminal

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"

	"golang.org/x/term"
)

// ErrEnded says that a person's answers ended before the questions did.
var ErrEnded = errors.New("the answers ended before the questions")

// Person is who can be asked at a terminal.
type Person struct {
	In  io.Reader
	Out io.Writer // of the questions

	answers     *bufio.Scanner // of what is typed
	asking      sync.Mutex
	passphrases map[string]string // typed already, by the question
}

// There reports whether a person can be asked.
func (p *Person) There() bool {
	f, ok := p.In.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// Ask asks and returns the answer without the spaces around it.
func (p *Person) Ask(ctx context.Context, question string) (string, error) {
	if p.answers == nil {
		p.answers = bufio.NewScanner(p.In)
	}
	fmt.Fprintf(p.Out, "%s ", question)
	answer := make(chan string, 1)
	go func() { // a read cannot be interrupted; the program ends without it
		defer close(answer)
		if p.answers.Scan() {
			answer <- strings.TrimSpace(p.answers.Text())
		}
	}()
	select {
	case text, ok := <-answer:
		if !ok {
			return "", ErrEnded
		}
		return text, nil
	case <-ctx.Done():
		fmt.Fprintln(p.Out)
		return "", ctx.Err()
	}
}

// AskHidden asks for a text that the terminal does not show.
func (p *Person) AskHidden(what string) (string, error) {
	f, ok := p.In.(*os.File)
	if !ok || !p.There() {
		return "", errors.New("it has a passphrase, and there is no terminal to ask for it at")
	}
	fmt.Fprintf(p.Out, "%s ", what)
	defer fmt.Fprintln(p.Out)
	text, err := term.ReadPassword(int(f.Fd()))
	return string(text), err
}

// Passphrase asks for one, each once.
func (p *Person) Passphrase(what string) (string, error) {
	p.asking.Lock()
	defer p.asking.Unlock()
	if text, ok := p.passphrases[what]; ok {
		return text, nil
	}
	text, err := p.AskHidden(what)
	if err == nil {
		if p.passphrases == nil {
			p.passphrases = map[string]string{}
		}
		p.passphrases[what] = text
	}
	return text, err
}
