package session

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"kasbah/core/disk"
	"kasbah/core/estate"
	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/seal"
	"kasbah/core/value"
)

// KeyChange is a change of who reads and writes, in kasbah.toml.
type KeyChange struct {
	Lists   map[string][]string // of [ledger], by key
	Leaving bool                // a reader goes, who knows the estate's key
}

// Readers says who reads and writes after a KeyChange.
type Readers struct {
	Format     string   `json:"format"`
	Recipients []string `json:"recipients"`
	Writers    []string `json:"writers"`
	Renew      []string `json:"renew"` // secrets that somebody who was dismissed may know

	Changed map[string][]string `json:"-"` // the lists that are others than before, by key
	Rekeyed bool                `json:"-"` // the estate has another key
}

// Admit lets a key read, or write when writer is set, under a person's name.
func Admit(name, public string, writer bool) func(*estate.Estate, *KeyChange) error {
	list, what := "recipients", "a recipient"
	if writer {
		list, what = "writers", "a writer"
	}
	return func(e *estate.Estate, c *KeyChange) error {
		for _, r := range e.LedgerList(list) {
			if estate.PublicKey(r) == public {
				return fmt.Errorf("that key is %s already", what)
			}
			if estate.KeyHolder(r) == name {
				return fmt.Errorf("%s is %s already, with another key; dismiss that one first", name, what)
			}
		}
		c.Lists[list] = append(e.LedgerList(list), public+" "+name)
		return nil
	}
}

// Dismiss ends the reading and writing of a person, by a name or a public key.
func Dismiss(who string) func(*estate.Estate, *KeyChange) error {
	return func(e *estate.Estate, c *KeyChange) error {
		var names []string
		for _, list := range []string{"recipients", "writers"} {
			was := e.LedgerList(list)
			stay := slices.DeleteFunc(slices.Clone(was), func(r string) bool {
				return estate.KeyHolder(r) == who || estate.PublicKey(r) == estate.PublicKey(who)
			})
			for _, r := range was {
				names = append(names, estate.KeyHolder(r))
			}
			switch {
			case len(stay) == len(was):
				continue
			case len(stay) == 0 && list == "recipients":
				return errors.New("it is the only recipient: without it the ledger could not be read any more")
			case len(stay) == 0:
				return errors.New("it is the only writer: without it the ledger could not be written any more")
			}
			c.Lists[list] = stay
			c.Leaving = c.Leaving || list == "recipients"
		}
		if len(c.Lists) == 0 {
			return &problem.UsageError{Message: "no recipient and no writer is called " + who,
				Hint: nearest.Hint(who, names)}
		}
		return nil
	}
}

// ChangeKeys rewrites who reads and writes in kasbah.toml. When a reader goes, the estate gets
// another key, and what they may know is listed.
func ChangeKeys(ctx context.Context, c Config, change func(*estate.Estate, *KeyChange) error) (*Readers, error) {
	dir, err := estate.Find(c.Dir)
	if err != nil {
		return nil, err
	}
	path := filepath.Join(dir, estate.File)
	body, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	e, err := estate.Parse(dir, body)
	if err != nil {
		return nil, err
	}
	k := &KeyChange{Lists: map[string][]string{}}
	if err := change(e, k); err != nil {
		return nil, err
	}
	text := string(body)
	for _, key := range value.Keys(k.Lists) {
		if text, err = estate.WithLedgerList(text, key, k.Lists[key]); err != nil {
			return nil, err
		}
	}
	out := &Readers{Format: "kasbah.readers/1", Renew: []string{}, Changed: k.Lists, Rekeyed: k.Leaving}
	if k.Leaving {
		if out.Renew, err = toRenew(ctx, c, e); err != nil { // while the ledgers can be read as kasbah.toml is
			return nil, err
		}
		if text, err = rekeyed(c, e, text, k.Lists["recipients"]); err != nil {
			return nil, err
		}
	}
	list := func(key string) []string {
		if list, changed := k.Lists[key]; changed {
			return list
		}
		return append([]string{}, e.LedgerList(key)...)
	}
	out.Recipients, out.Writers = list("recipients"), list("writers")
	return out, disk.Replace(path, []byte(text), 0o644)
}

// toRenew lists the secrets that somebody who is dismissed may know: those that kasbah.toml
// names, and those that the ledgers record. A ledger that cannot be read is told.
func toRenew(ctx context.Context, c Config, e *estate.Estate) ([]string, error) {
	renew := []string{}
	envs, err := existing(ctx, c, e)
	if err != nil {
		return nil, err
	}
	for _, env := range envs {
		for _, s := range e.Secrets(env) {
			renew = append(renew, fmt.Sprintf("%s (%s)", s, env))
		}
		c.Env = env
		recorded, err := recordedSecrets(ctx, c)
		if err != nil {
			c.Tell(fmt.Sprintf("The secrets that the ledger of %s records are not listed, because it cannot be read "+
				"here: %v", env, err))
			continue
		}
		renew = append(renew, recorded...)
	}
	slices.Sort(renew)
	return renew, nil
}

func recordedSecrets(ctx context.Context, c Config) (renew []string, err error) {
	s, err := Open(ctx, c)
	if s != nil {
		defer s.Close()
	}
	if err != nil {
		return nil, err
	}
	states, err := s.States(ctx)
	if err != nil {
		return nil, err
	}
	for _, ward := range s.Wards {
		held, err := states[ward].Secrets()
		if err != nil {
			return nil, err
		}
		for address, attributes := range held {
			renew = append(renew, fmt.Sprintf("%s %s (%s)", value.InWard(ward, address), strings.Join(attributes, ", "),
				s.Env))
		}
	}
	tokens, err := s.WatchTokens(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range tokens.Tokens {
		renew = append(renew, fmt.Sprintf("the token %s of the watcher's page (%s)", t.Name, s.Env))
	}
	return renew, nil
}

// rekeyed pins another key of the estate in the text of kasbah.toml, and keeps it on this
// machine for the reseal.
func rekeyed(c Config, e *estate.Estate, text string, readers []string) (string, error) {
	s := storeSettings{e.Dir, e.Ledger("")}
	id, was := s.text("estate_id"), s.text("estate_key")
	if id == "" || was == "" {
		return text, nil // nothing is sealed
	}
	home, err := c.Home()
	if err != nil {
		return "", err
	}
	next := seal.Estate{ID: id}.Rekeyed()
	var to []string
	for _, r := range readers {
		to = append(to, estate.PublicKey(r))
	}
	if err := home.KeepEstate(next, to); err != nil {
		return "", err
	}
	if text, err = estate.WithLedgerText(text, "estate_key", next.Pin().Digest); err != nil {
		return "", err
	}
	return estate.WithLedgerList(text, "former_keys", append(e.LedgerList("former_keys"), was))
}
