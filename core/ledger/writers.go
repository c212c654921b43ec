package ledger

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"kasbah/core/approval"
)

// Who wrote an entry is proven by a signature. Each run makes an Ed25519 key of its own,
// which a writer's key signs once, in the run's first line; the run's key signs every
// entry and checkpoint. So a key that asks for a passphrase asks once a run.
//
// A signed object is the line signedMagic, 64 bytes of Ed25519 (RFC 8032), and the object
// as it would be otherwise. The signature is over the line, the object's key in the store,
// a zero byte and the object.

const signedMagic = "kasbah.signed/1\n"

// runKeyType says what a writer's key signs (as the payload type of DSSE).
const runKeyType = "application/vnd.kasbah.run-key"

// RunKey is the public key of a run, signed by a writer's.
type RunKey struct {
	Public []byte `json:"public"` // Ed25519
	By     string `json:"by"`     // the writer's public key, as in an authorized_keys file
	Sig    []byte `json:"sig"`    // by that key, over the ledger, the run and Public
}

// Writers are those who may write a ledger, by their public keys.
type Writers struct {
	Keys []string `json:"keys"` // as in an authorized_keys file; none: anybody who can
	By   string   `json:"by,omitempty"`
	At   int64    `json:"at,omitempty"` // the entry that says so; By and At are folded, never written
}

// Lists reports whether a public key is one of the writers'.
func (w *Writers) Lists(key string) bool {
	return w != nil && slices.ContainsFunc(w.Keys, func(k string) bool { return sameKey(k, key) })
}

func sameKey(a, b string) bool {
	x, err1 := approval.Public(a)
	y, err2 := approval.Public(b)
	return err1 == nil && err2 == nil && approval.Fingerprint(x) == approval.Fingerprint(y)
}

// fingerprint is how a public key is shown.
func fingerprint(key string) string {
	k, err := approval.Public(key)
	if err != nil {
		return "a key that cannot be read"
	}
	return approval.Fingerprint(k)
}

// equal reports whether two lists are of the same keys.
func (w *Writers) equal(keys []string) bool {
	if w == nil {
		return len(keys) == 0
	}
	within := func(list []string, k string) bool {
		return slices.ContainsFunc(list, func(o string) bool { return sameKey(k, o) })
	}
	for _, k := range w.Keys {
		if !within(keys, k) {
			return false
		}
	}
	return !slices.ContainsFunc(keys, func(k string) bool { return !within(w.Keys, k) })
}

// WrittenBy makes the ledger one that the holders of some public keys alone may write. No
// keys, and anybody may who can.
func (l *Ledger) WrittenBy(keys []string) { l.writers = keys }

// signer signs what a run writes.
type signer struct {
	run     string
	private ed25519.PrivateKey
	key     *RunKey
}

// newSigner makes the key of a run, and has it signed by a writer's. It is nil where
// nobody says who may write.
func (l *Ledger) newSigner(run string, s *State) (*signer, error) {
	allowed := l.writers
	switch {
	case s.Writers == nil:
	case l.resealing && len(l.writers) > 0: // who changes the writers was one and stays one
		allowed = slices.DeleteFunc(slices.Clone(l.writers), func(k string) bool { return !s.Writers.Lists(k) })
		if len(allowed) == 0 {
			return nil, fmt.Errorf("the ledger of %s: none of the writers in kasbah.toml is a writer of the ledger "+
				"yet. Keep one of its present writers in the list, who can then reseal it", l.Ward)
		}
	default:
		allowed = s.Writers.Keys
	}
	if len(allowed) == 0 {
		return nil, nil
	}
	if l.who.Sign == nil {
		return nil, &noWriterError{l.Ward, allowed}
	}
	by, err := l.who.Sign(allowed)
	if err != nil {
		return nil, fmt.Errorf("the ledger of %s: %w", l.Ward, err)
	}
	if by == nil {
		return nil, &noWriterError{l.Ward, allowed}
	}
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	k := &RunKey{Public: public, By: strings.TrimSpace(string(ssh.MarshalAuthorizedKey(by.PublicKey())))}
	if k.Sig, err = approval.Sign(by, runKeyType, k.message(l.prefix, run)); err != nil {
		return nil, fmt.Errorf("the key of the run could not be signed: %w", err)
	}
	return &signer{run, private, k}, nil
}

func (k *RunKey) message(prefix, run string) []byte {
	return fmt.Appendf(nil, "%s\x00%s\x00%s", prefix, run, k.Public)
}

// proven is an error unless a writer's key has signed the run's.
func (k *RunKey) proven(prefix, run string) error {
	by, err := approval.Public(k.By)
	if err != nil || len(k.Public) != ed25519.PublicKeySize || !approval.Verify(by, runKeyType, k.message(prefix, run),
		k.Sig) {
		return errors.New("the key of its run is not signed by the writer it names")
	}
	return nil
}

// publicOf is the key of a signer; nil for none.
func (s *signer) publicOf() *RunKey {
	if s == nil {
		return nil
	}
	return s.key
}

// sign is an object as it is stored, signed where there is a signer.
func (s *signer) sign(key string, body []byte) []byte {
	if s == nil {
		return body
	}
	sig := ed25519.Sign(s.private, signedMessage(key, body))
	out := make([]byte, 0, len(signedMagic)+len(sig)+len(body))
	return append(append(append(out, signedMagic...), sig...), body...)
}

func signedMessage(key string, body []byte) []byte {
	out := make([]byte, 0, len(signedMagic)+len(key)+1+len(body))
	return append(append(append(append(out, signedMagic...), key...), 0), body...)
}

// signature is that of a stored object.
type signature struct {
	key  string // in the store
	sig  []byte // nil where there is none
	body []byte
}

// unsign takes an object and its signature apart.
func unsign(key string, body []byte) (*signature, error) {
	rest, ok := bytes.CutPrefix(body, []byte(signedMagic))
	if !ok {
		return &signature{key: key, body: body}, nil
	}
	if len(rest) < ed25519.SignatureSize {
		return nil, errors.New("it is cut off")
	}
	return &signature{key, rest[:ed25519.SignatureSize], rest[ed25519.SignatureSize:]}, nil
}

// by is an error unless the key of a run has signed the object.
func (s *signature) by(k *RunKey) error {
	switch {
	case s.sig == nil:
		return errors.New("it is not signed, and this ledger has writers")
	case k == nil:
		return errors.New("it belongs to a run that has ended, so nothing proves who wrote it")
	case len(k.Public) != ed25519.PublicKeySize || !ed25519.Verify(k.Public, signedMessage(s.key, s.body), s.sig):
		return errors.New("its signature is not that of its run: it was forged or altered")
	}
	return nil
}

// signedRight is an error unless one who may write the ledger has signed the entry. It
// takes an entry's new writers, which one who stays among them must have signed.
func (s *State) signedRight(e *Entry) error {
	to := e.writers()
	if s.Writers == nil && to == nil {
		return nil
	}
	k := e.runKey()
	if k != nil && !e.own {
		if err := k.proven(e.prefix(), e.Run); err != nil {
			return err
		}
	}
	if k == nil && s.Open[e.Run] != nil {
		k = s.Open[e.Run].Begin.Key
	}
	if !e.own {
		if err := e.sig.by(k); err != nil {
			return err
		}
	}
	if k == nil {
		return errors.New("its run has no key")
	}
	if s.Writers != nil && len(s.Writers.Keys) > 0 && !s.Writers.Lists(k.By) {
		return fmt.Errorf("it is signed by %s, which is not one of the writers", fingerprint(k.By))
	}
	if to == nil {
		return nil
	}
	if len(to.Keys) == 0 {
		s.Writers = nil
		return nil
	}
	if !to.Lists(k.By) {
		return fmt.Errorf("it changes the writers and is signed by %s, which is not one of them", fingerprint(k.By))
	}
	s.Writers = &Writers{Keys: to.Keys, By: k.By, At: e.Seq}
	return nil
}

// runKey is the key that the entry brings along.
func (e *Entry) runKey() *RunKey {
	switch l := e.Lines[0]; {
	case l.Begin != nil:
		return l.Begin.Key
	case l.Break != nil:
		return l.Break.Key
	case l.After != nil:
		return l.After.Key
	}
	return nil
}

// writers are those that the entry makes the ledger's, if it does.
func (e *Entry) writers() *Writers { return writersOf(e.Lines) }

func writersOf(lines []Line) *Writers {
	for _, l := range lines {
		switch {
		case l.Begin != nil && l.Begin.Writers != nil:
			return l.Begin.Writers
		case l.Note != nil && l.Note.Writers != nil:
			return l.Note.Writers
		}
	}
	return nil
}

// prefix is the ledger's place in its store.
func (e *Entry) prefix() string {
	if e.sig == nil {
		return ""
	}
	at, _, _ := strings.Cut(e.sig.key, "log/")
	return at
}

// writersAgree is an error unless those who may write, as the log has it, are proven by
// one whom kasbah.toml names.
func (l *Ledger) writersAgree(s *State) error {
	switch {
	case len(l.writers) == 0 || s.Seq == 0 || l.resealing:
		return nil
	case s.Writers == nil:
		return &UnsignedError{Ward: l.Ward}
	case !(&Writers{Keys: l.writers}).Lists(s.Writers.By):
		return fmt.Errorf("the ledger of %s: entry %d names its writers and is signed by %s, which is not among "+
			"[ledger] writers in kasbah.toml: the ledger was made by another person, or it has not been resealed "+
			"since that writer was dismissed", l.Ward, s.Writers.At, fingerprint(s.Writers.By))
	}
	return nil
}

// UnsignedError is returned for a ledger whose entries must be signed and are not.
type UnsignedError struct {
	Ward string
	Seen bool // this machine has seen it as it is
}

// Error says what that means, and what to do where that makes nothing worse.
func (e *UnsignedError) Error() string {
	s := fmt.Sprintf("the ledger of %s is not signed, and kasbah.toml names writers: nothing proves who wrote it, so "+
		"it is not trusted", e.Ward)
	if e.Seen {
		s += ". This machine has read it in this state before: `kasbah ledger reseal` takes it over"
	}
	return s
}

// noWriterError is returned to one who has no key that may write a ledger.
type noWriterError struct {
	Ward    string
	Writers []string
}

// Error says who may, and what to do.
func (e *noWriterError) Error() string {
	var names []string
	for _, k := range e.Writers {
		f := strings.Fields(k)
		if len(f) > 2 {
			names = append(names, strings.Join(f[2:], " "))
		} else {
			names = append(names, fingerprint(k))
		}
	}
	return fmt.Sprintf("no key on this machine may write the ledger of %s: [ledger] writers in kasbah.toml names %s. "+
		"`kasbah key writer` prints yours", e.Ward, strings.Join(names, ", "))
}

// writersError is returned to a writer when the writers of kasbah.toml are not those that
// the ledger notes.
type writersError struct {
	Ward           string
	Missing, Extra []string // in kasbah.toml, against the note
}

// Error says who, and what to do.
func (e *writersError) Error() string {
	out := "the writers in kasbah.toml are not those that the ledger of " + e.Ward + " notes"
	for _, k := range e.Missing {
		out += "; the note has " + fingerprint(k)
	}
	for _, k := range e.Extra {
		out += "; kasbah.toml has " + fingerprint(k)
	}
	return out + ": `kasbah ledger reseal` makes them the ledger's, or take kasbah.toml back"
}

// writersDiffer is a *writersError when kasbah.toml and the note differ.
func (l *Ledger) writersDiffer(s *State) error {
	if s.Writers.equal(l.writers) {
		return nil
	}
	e := &writersError{Ward: l.Ward}
	if s.Writers != nil {
		for _, k := range s.Writers.Keys {
			if !(&Writers{Keys: l.writers}).Lists(k) {
				e.Missing = append(e.Missing, k)
			}
		}
	}
	for _, k := range l.writers {
		if !s.Writers.Lists(k) {
			e.Extra = append(e.Extra, k)
		}
	}
	return e
}
