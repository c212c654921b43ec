package session

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"sync"

	"kasbah/core/enact"
	"kasbah/core/estate"
	"kasbah/core/ledger"
	"kasbah/core/problem"
	"kasbah/core/seal"
	"kasbah/core/value"
	"kasbah/home"
)

// memory tells once when what was seen of a ledger cannot be remembered here, as in a
// container without a place to write, and goes on.
type memory struct {
	ledger.Memory
	tell func(format string, args ...any)
	once sync.Once
}

func (m *memory) Remember(name string, newest ledger.Head) error {
	if err := m.Memory.Remember(name, newest); err != nil {
		m.once.Do(func() {
			m.tell("What was seen of the ledger cannot be remembered here, so an old copy would not be noticed: %v",
				err)
		})
	}
	return nil
}

// staysSealed is an error where a flag or a variable would change how a ledger is sealed, or who writes it, that
// kasbah.toml seals with a pinned key.
func (s *Session) staysSealed() error {
	set := s.Estate.Ledger(s.Env)
	if set["seal"] != "all" || set["estate_key"] == nil {
		return nil
	}
	for _, k := range sealKeys {
		if _, given := s.settings["ledger."+k]; given {
			return &enact.Refused{Reasons: []string{fmt.Sprintf("ledger.%s: kasbah.toml seals the ledger with a pinned key, and neither -with nor a "+
				"variable changes how it is sealed or who writes it", k)}}
		}
	}
	return nil
}

// newBox is what seals the session's ledgers; nil when they are not sealed.
func (s *Session) newBox(set value.Map) (*seal.Box, error) {
	wrong := func(key, hint, format string, args ...any) error {
		e := problem.At(s.Estate.LedgerAt(s.Env, key), format, args...)
		e.Hint = hint
		return e
	}
	switch set["seal"] {
	case nil, "off":
		return nil, nil
	case "all":
	default:
		return nil, wrong("seal", "", "seal is %s, and must be \"all\" or \"off\"", value.Plain(set["seal"]))
	}
	at := storeSettings{s.Estate.Dir, set}
	pin := seal.Pin{ID: at.text("estate_id"), Digest: at.text("estate_key"), Former: at.texts("former_keys")}
	if pin.ID == "" || pin.Digest == "" {
		return nil, wrong("seal", "`kasbah key estate` makes them", "seal = \"all\" needs estate_id and estate_key, "+
			"which tell this estate's entries from forged ones")
	}
	var to []string
	for _, recipient := range at.texts("recipients") {
		to = append(to, estate.PublicKey(recipient))
	}
	if len(to) == 0 {
		return nil, wrong("seal", "`kasbah key show` prints yours", "seal = \"all\" needs recipients: the public "+
			"keys of those who may read the ledger")
	}
	home, err := s.config.Home()
	if err != nil {
		return nil, err
	}
	box, err := seal.NewBox(pin, to, home.Identities)
	if err != nil {
		return nil, wrong("recipients", "", "recipients: %v", err)
	}
	box.Fetch = func(ctx context.Context) (seal.Estate, error) { return s.estateKey(ctx, home, pin.ID) }
	return box, nil
}

// estateKey finds the estate's key for the first entry of a ledger: on this
// machine, or in another ledger of the estate.
func (s *Session) estateKey(ctx context.Context, home *home.Home, id string) (seal.Estate, error) {
	e, err := home.Estate(id)
	if err == nil && s.Box.InForce(e) {
		return e, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, seal.ErrNoIdentity) {
		return e, err
	}
	envs, err := existing(ctx, s.config, s.Estate)
	if err != nil {
		return e, err
	}
	for _, env := range envs {
		for _, ward := range s.Estate.Wards {
			l, err := s.ledgerOf(env, ward, ledger.Identity{})
			if err != nil {
				return e, err
			}
			if _, err := l.Load(ctx); err != nil {
				continue // another one may do
			}
			if e, known := s.Box.Estate(); known {
				return e, nil
			}
		}
	}
	return e, fmt.Errorf("the key of this estate is not on this machine (%s), and no ledger that can be read here "+
		"holds it: whoever made the estate must make the first run", home.Dir)
}

// Opener opens ledgers that are not to be sealed any more: kasbah.toml says seal = "off", and
// still how they were sealed. It is nil where they are sealed, or never were.
func (s *Session) Opener() (*seal.Box, error) {
	set := merged(s.Estate.Ledger(s.Env), s.settings, "ledger.")
	if s.Box != nil || set["estate_id"] == nil {
		return nil, nil
	}
	set["seal"] = "all"
	return s.newBox(set)
}
