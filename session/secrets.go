package session

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
	"kasbah/core/disk"
	"kasbah/core/environ"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/redact"
	"kasbah/core/value"
	"kasbah/home"
)

// Secrets fetches secrets and credentials from where kasbah.toml says, and knows which were
// fetched, so that none of them is shown.
type Secrets struct {
	estate   *estate.Estate
	env      string
	home     func() (*home.Home, error)
	revealed redact.Redactor
}

// Redact is a text without the secrets and credentials that were fetched.
func (x *Secrets) Redact(text string) string { return x.revealed.Text(text) }

// Confide notes a secret that a run has revealed.
func (x *Secrets) Confide(text string) { x.revealed.Add(text) }

// errNoSource is returned for a secret without a source.
var errNoSource = errors.New("it is not given")

// Text fetches a secret: from KASBAH_SECRET_NAME, or from where
// kasbah.toml says. Errors never hold the text.
func (x *Secrets) Text(ctx context.Context, name string) (string, error) {
	if v := os.Getenv("KASBAH_SECRET_" + strings.ToUpper(name)); v != "" {
		x.revealed.Add(v)
		return v, nil
	}
	src, ok := x.estate.Secret(x.env, name)
	if !ok {
		return "", errNoSource
	}
	return x.Fetch(ctx, src)
}

// Of fetches the session's secrets, each once.
func (x *Secrets) Of(ctx context.Context) func(name string) (string, error) {
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
			f.text, f.err = x.Text(ctx, name)
			all[name] = f
		}
		return f.text, f.err
	}
}

// Fetch gets a secret from its source.
func (x *Secrets) Fetch(ctx context.Context, src estate.SecretSource) (string, error) {
	text, err := x.fetchFrom(ctx, src)
	x.revealed.Add(text)
	return text, err
}

func (x *Secrets) fetchFrom(ctx context.Context, src estate.SecretSource) (string, error) {
	switch src.Kind {
	case "env":
		if v := os.Getenv(src.From); v != "" {
			return v, nil
		}
		return "", fmt.Errorf("the variable %s is not set", src.From)
	case "file":
		return x.file(src.From)
	case "run":
		return x.run(ctx, src.Run, src.Env)
	}
	home, err := x.home()
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

func (x *Secrets) file(name string) (string, error) {
	if !filepath.IsAbs(name) {
		name = filepath.Join(x.estate.Dir, name)
	}
	body, err := disk.Read(name, maxSecret)
	if err != nil {
		return "", err
	}
	return NonEmpty(string(body))
}

// secretTime bounds a program that gives a secret.
const secretTime = 30 * time.Second

func (x *Secrets) run(ctx context.Context, args, names []string) (string, error) {
	asked := ctx
	ctx, cancel := context.WithTimeout(ctx, secretTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Dir, cmd.Env = x.estate.Dir, environ.For(names...)
	out, err := cmd.Output() // what it says on standard error may hold the secret as well
	switch {
	case asked.Err() != nil:
		return "", asked.Err()
	case ctx.Err() != nil:
		return "", fmt.Errorf("%s took longer than %s", args[0], secretTime)
	case err != nil:
		return "", fmt.Errorf("%s: %w", args[0], err)
	}
	return NonEmpty(string(out))
}

// NonEmpty is a text without the end of its line; an error where nothing is left.
func NonEmpty(text string) (string, error) {
	text = strings.TrimRight(text, "\r\n")
	if text == "" {
		return "", errors.New("it is empty")
	}
	return text, nil
}

// SecretProblems reports secrets that cannot be had here, or do not fit, and
// sources that nothing asks for.
func (s *Session) SecretProblems(ctx context.Context, d *declare.Declared, level problem.Level) problem.List {
	var out problem.List
	names := map[string]bool{}
	for _, w := range d.Wards {
		for _, name := range value.Keys(w.Secrets) {
			names[name] = true
			secret := w.Secrets[name]
			text, err := s.Secrets.Text(ctx, name)
			if err == nil {
				if _, faults := secret.Attr.Check(text, value.Path{value.Key(name)}); len(faults) > 0 {
					err = errors.New("it does not fit the limits that its input states")
				}
			}
			if err == nil {
				continue
			}
			one := problem.At(secret.Position, "secret %s: %v", name, err)
			one.Level, one.Ward = level, w.Name
			if errors.Is(err, errNoSource) {
				one.Hint = declare.SecretHint(name, s.Env)
			}
			out = append(out, one)
		}
	}
	if len(d.Wards) < len(s.Estate.Wards) {
		return out
	}
	for _, name := range s.Estate.Secrets(s.Env) {
		if !names[name] {
			src, _ := s.Estate.Secret(s.Env, name)
			one := problem.At(src.Position, "nothing in this estate asks for a secret %q (given in %s)", name,
				estate.File)
			one.Hint = nearest.Hint(name, value.Keys(names))
			out = append(out, one)
		}
	}
	return out
}

// FillIn gives settings with credentials fetched from where they say: an
// environment variable, a file or a program.
func (x *Secrets) FillIn(ctx context.Context, s value.Map) (value.Map, error) {
	out := value.CloneMap(s)
	for _, k := range value.Keys(s) {
		if src, ok := estate.ReadSource(s[k]); ok {
			text, err := x.Fetch(ctx, src)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", k, err)
			}
			out[k] = text
		}
	}
	return out, nil
}
