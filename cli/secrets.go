package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"kasbah/core/declare"
	"kasbah/core/environ"
	"kasbah/core/estate"
	"kasbah/core/graph"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// errNoSource is returned for a secret that nobody gives.
var errNoSource = errors.New("nobody gives it")

// secretText fetches a secret: from KASBAH_SECRET_NAME, or from where
// kasbah.toml says. Errors never hold the text.
func (p *project) secretText(ctx context.Context, name string) (string, error) {
	if v := os.Getenv("KASBAH_SECRET_" + strings.ToUpper(name)); v != "" {
		p.revealed.Add(v)
		return v, nil
	}
	src, ok := p.estate.Secret(p.env, name)
	if !ok {
		return "", errNoSource
	}
	return p.fetch(ctx, src)
}

// secretOf fetches the project's secrets, each once.
func (p *project) secretOf(ctx context.Context) func(name string) (string, error) {
	type fetched struct {
		text string
		err  error
	}
	var mu sync.Mutex
	all := map[string]fetched{}
	return func(name string) (string, error) {
		mu.Lock()
		defer mu.Unlock()
		f, ok := all[name]
		if !ok {
			f.text, f.err = p.secretText(ctx, name)
			all[name] = f
		}
		return f.text, f.err
	}
}

// fetch gets a secret from its source.
func (p *project) fetch(ctx context.Context, src estate.SecretSource) (string, error) {
	text, err := p.fetchFrom(ctx, src)
	p.revealed.Add(text)
	return text, err
}

func (p *project) fetchFrom(ctx context.Context, src estate.SecretSource) (string, error) {
	switch src.Kind {
	case "env":
		if v := os.Getenv(src.From); v != "" {
			return v, nil
		}
		return "", fmt.Errorf("the variable %s is not set", src.From)
	case "file":
		return p.secretFile(src.From)
	case "run":
		return p.secretRun(ctx, src.Run, src.Env)
	}
	home, err := p.home()
	if err != nil {
		return "", err
	}
	text, err := home.Credential(src.From)
	if errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("no credential %s is kept on this machine: `kasbah key keep %s`", src.From, src.From)
	}
	return text, err
}

const maxSecret = 1 << 20

func (p *project) secretFile(name string) (string, error) {
	if !filepath.IsAbs(name) {
		name = filepath.Join(p.estate.Dir, name)
	}
	info, err := os.Stat(name)
	if err != nil {
		return "", err
	}
	if info.Size() > maxSecret {
		return "", fmt.Errorf("%s is larger than any secret", name)
	}
	body, err := os.ReadFile(name)
	if err != nil {
		return "", err
	}
	return nonEmpty(string(body))
}

// secretTime bounds a program that gives a secret.
const secretTime = 30 * time.Second

func (p *project) secretRun(ctx context.Context, args, names []string) (string, error) {
	asked := ctx
	ctx, cancel := context.WithTimeout(ctx, secretTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Dir, cmd.Env = p.estate.Dir, environ.For(names...)
	out, err := cmd.Output() // what it says on standard error may hold the secret as well
	switch {
	case asked.Err() != nil:
		return "", asked.Err()
	case ctx.Err() != nil:
		return "", fmt.Errorf("%s took longer than %s", args[0], secretTime)
	case err != nil:
		return "", fmt.Errorf("%s: %w", args[0], err)
	}
	return nonEmpty(string(out))
}

func nonEmpty(text string) (string, error) {
	text = strings.TrimRight(text, "\r\n")
	if text == "" {
		return "", errors.New("it is empty")
	}
	return text, nil
}

// declaredWithSecrets is declared for commands that will need the secrets.
func (a *app) declaredWithSecrets(ctx context.Context, p *project) (*declare.Declared, *graph.Graph, error) {
	d, g, err := a.declared(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	return d, g, p.secretProblems(ctx, d, problem.Wrong).Err()
}

// secretProblems reports secrets that cannot be had here, or do not fit, and
// sources that nothing asks for.
func (p *project) secretProblems(ctx context.Context, d *declare.Declared, level problem.Level) problem.List {
	var out problem.List
	names := map[string]bool{}
	for _, w := range d.Wards {
		for _, name := range value.Keys(w.Secrets) {
			names[name] = true
			s := w.Secrets[name]
			text, err := p.secretText(ctx, name)
			if err == nil {
				if _, faults := s.Attr.Check(text, value.Path{value.Key(name)}); len(faults) > 0 {
					err = errors.New("it does not fit the limits that its input states")
				}
			}
			if err == nil {
				continue
			}
			one := problem.At(s.Position, "secret %s: %v", name, err)
			one.Level, one.Ward = level, w.Name
			if errors.Is(err, errNoSource) {
				one.Hint = declare.SecretHint(name, p.env)
			}
			out = append(out, one)
		}
	}
	if len(d.Wards) < len(p.estate.Wards) {
		return out
	}
	for _, name := range p.estate.Secrets(p.env) {
		if !names[name] {
			src, _ := p.estate.Secret(p.env, name)
			one := problem.At(src.Position, "nothing in this estate asks for a secret %q (given in %s)", name, estate.File)
			one.Hint = nearest.Hint(name, value.Keys(names))
			out = append(out, one)
		}
	}
	return out
}
