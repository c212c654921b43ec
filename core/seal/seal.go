// Package seal encrypts what a ledger stores, on this machine and before it
// leaves, and proves that someone who may write the estate wrote it.
//
// A sealed object is the line Magic, 32 bytes of HMAC-SHA-256 (RFC 2104), and
// an age file (age-encryption.org/v1). The HMAC is made with the estate's key
// over the store key, a zero byte, and the age file.
//
// Encrypting alone does not say who wrote: whoever knows the recipients can
// encrypt to them. The estate's key stands inside sealed objects only, and its
// digest is pinned outside the store, so that another one is noticed. When somebody
// is dismissed the estate gets another key; the digests of former ones stay pinned, for
// what was written with them.
package seal

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/plugin"
)

// Magic is how a sealed object begins.
const Magic = "kasbah.sealed/1\n"

// keyBytes is the size of an estate's key.
const keyBytes = 32

// Errors of opening an object. All of them are wrapped with words.
var (
	ErrNoIdentity = errors.New("it is sealed to keys that are not on this machine")
	ErrForged     = errors.New("it was not written with the estate's key: it was forged, altered or put in another's " +
		"place")
	ErrDamaged  = errors.New("it cannot be decrypted: it was altered or cut")
	ErrOtherKey = errors.New("it holds the key of another estate than kasbah.toml pins")
	ErrClear    = errors.New("it is not sealed, so it was written without the estate's key")
)

// Estate is what makes objects an estate's own. Its key is secret.
type Estate struct {
	ID  string `json:"id"`
	Key []byte `json:"key"`
}

// NewEstate makes an id and a key.
func NewEstate() Estate {
	key := make([]byte, keyBytes)
	rand.Read(key) // never fails
	return Estate{ID: strings.ToLower(rand.Text()), Key: key}
}

// Pin is what is known of the estate outside the store.
func (e Estate) Pin() Pin { return Pin{ID: e.ID, Digest: digest(e.Key)} }

// Pin names an estate and the digest of its key.
type Pin struct {
	ID     string
	Digest string   // of the key in force: `sha256:` and 64 digits
	Former []string // those of keys that were in force before
}

func digest(key []byte) string {
	sum := sha256.Sum256(key)
	return "sha256:" + hex.EncodeToString(sum[:])
}

// Holds reports whether an estate is the pinned one, with the key in force.
func (p Pin) Holds(e Estate) bool {
	return e.ID == p.ID && len(e.Key) == keyBytes && hmac.Equal([]byte(digest(e.Key)), []byte(p.Digest))
}

// Held reports whether an estate is the pinned one, with the key in force or a former one.
func (p Pin) Held(e Estate) bool {
	return p.Holds(e) || e.ID == p.ID && len(e.Key) == keyBytes && slices.Contains(p.Former, digest(e.Key))
}

// Rekeyed is the estate with another key.
func (e Estate) Rekeyed() Estate { return Estate{ID: e.ID, Key: NewEstate().Key} }

// Is reports whether two are one estate with one key.
func (e Estate) Is(o Estate) bool { return e.ID == o.ID && hmac.Equal(e.Key, o.Key) }

// Box seals and opens for one estate. It is safe for use by many goroutines.
type Box struct {
	Recipients []string // to whom kasbah.toml says that things are sealed, in byte order
	pin        Pin
	identities func() ([]age.Identity, error)

	// Fetch finds the estate where it is not known yet and something is to be
	// written; nil when only objects can tell.
	Fetch func(context.Context) (Estate, error)

	mu    sync.Mutex
	known map[string]Estate // keys found inside objects, by their digest

	asking sync.Mutex // identities, one of which may ask a person for its passphrase
}

// oneByOne is an identity of several that are tried by one goroutine at a time.
type oneByOne struct {
	mu *sync.Mutex
	age.Identity
}

func (o oneByOne) Unwrap(stanzas []*age.Stanza) ([]byte, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.Identity.Unwrap(stanzas)
}

// IdentitiesError is returned when the keys of this machine cannot be read, so that
// nothing is known of what they would open.
type IdentitiesError struct{ Err error }

// Error says what is wrong with the keys.
func (e *IdentitiesError) Error() string {
	return "the keys of this machine cannot be read: " + e.Err.Error()
}

// Unwrap is what is wrong.
func (e *IdentitiesError) Unwrap() error { return e.Err }

// NewBox makes a box for recipients (age or SSH public keys). identities is
// asked when something is to be opened, once.
func NewBox(pin Pin, recipients []string, identities func() ([]age.Identity, error)) (*Box, error) {
	b := &Box{Recipients: slices.Clone(recipients), pin: pin, known: map[string]Estate{}}
	b.identities = b.once(identities)
	slices.Sort(b.Recipients)
	b.Recipients = slices.Compact(b.Recipients)
	if _, err := Recipients(b.Recipients); err != nil {
		return nil, err
	}
	return b, nil
}

// NewReader makes a box that opens things of an estate, and seals none.
func NewReader(pin Pin, identities func() ([]age.Identity, error)) *Box {
	b := &Box{pin: pin, known: map[string]Estate{}}
	b.identities = b.once(identities)
	return b
}

// once asks for identities when something is to be opened, and tries each by one goroutine at a time.
func (b *Box) once(identities func() ([]age.Identity, error)) func() ([]age.Identity, error) {
	return sync.OnceValues(func() ([]age.Identity, error) {
		ids, err := identities()
		var out []age.Identity
		for _, id := range ids {
			out = append(out, oneByOne{&b.asking, id})
		}
		return out, err
	})
}

// Recipients reads public keys: `age1…` or as OpenSSH writes them.
func Recipients(texts []string) ([]age.Recipient, error) {
	if len(texts) == 0 {
		return nil, errors.New("there are no recipients")
	}
	var out []age.Recipient
	for _, text := range texts {
		r, err := Recipient(text)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// silent is how a plugin that seals talks with a person: not at all.
var silent = &plugin.ClientUI{
	DisplayMessage: func(string, string) error { return nil },
	RequestValue:   func(string, string, bool) (string, error) { return "", errAsks },
	Confirm:        func(string, string, string, string) (bool, error) { return false, errAsks },
	WaitTimer:      func(string) {},
}

var errAsks = errors.New("the plugin asks for something, and sealing asks nothing")

// Recipient reads one public key. Another one that begins with age1 is that of an age plugin, a program that must be
// found under the name in it: age-plugin-NAME.
func Recipient(text string) (age.Recipient, error) {
	switch {
	case strings.HasPrefix(text, "AGE-SECRET-KEY-"):
		return nil, errors.New("a recipient is a public key, and this is a private one: keep it to yourself")
	case strings.HasPrefix(text, "age1"):
		r, err := age.ParseHybridRecipient(text)
		if err == nil {
			return r, nil
		}
		x, err := age.ParseX25519Recipient(text)
		if _, _, isPlugin := plugin.ParseRecipient(text); err != nil && isPlugin == nil {
			return plugin.NewRecipient(text, silent)
		}
		if err != nil {
			return nil, fmt.Errorf("%s is not an age public key: it is not whole", shortened(text))
		}
		return x, nil
	case strings.HasPrefix(text, "ssh-"):
		r, err := agessh.ParseRecipient(text)
		if err != nil {
			return nil, fmt.Errorf("%s is not an SSH public key that can be sealed to: use Ed25519 or RSA",
				shortened(text))
		}
		return r, nil
	}
	return nil, fmt.Errorf("%q is not a recipient: write an age public key (age1…) or an SSH one (ssh-ed25519 …)",
		shortened(text))
}

func shortened(s string) string {
	if len(s) > 24 {
		return s[:24] + "…"
	}
	return s
}

// Learn takes a key of the estate that was found inside an object.
func (b *Box) Learn(e Estate) error {
	if !b.pin.Held(e) {
		return ErrOtherKey
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.known[digest(e.Key)] = e
	return nil
}

// Estate is the estate with the key in force, once that is known.
func (b *Box) Estate() (Estate, bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if e, ok := b.known[b.pin.Digest]; ok {
		return e, true
	}
	return Estate{ID: b.pin.ID}, false
}

// InForce reports whether a key is the one that kasbah.toml pins now.
func (b *Box) InForce(e Estate) bool { return b.pin.Holds(e) }

// Need is the estate, found if need be.
func (b *Box) Need(ctx context.Context) (Estate, error) {
	e, known := b.Estate()
	if known {
		return e, nil
	}
	if b.Fetch == nil {
		return e, errors.New("the estate's key is not known")
	}
	e, err := b.Fetch(ctx)
	if err != nil {
		return e, err
	}
	if !b.pin.Holds(e) {
		return e, ErrOtherKey
	}
	return e, b.Learn(e)
}

// IsSealed reports whether an object looks sealed.
func IsSealed(body []byte) bool { return bytes.HasPrefix(body, []byte(Magic)) }

func mac(by Estate, key string, sealed []byte) []byte {
	h := hmac.New(sha256.New, by.Key)
	h.Write([]byte(key))
	h.Write([]byte{0})
	h.Write(sealed)
	return h.Sum(nil)
}

// Seal encrypts an object that is to stand under a store key to some recipients, and
// proves it by a key of the estate.
func Seal(by Estate, key string, plain []byte, to []string) ([]byte, error) {
	if len(by.Key) != keyBytes {
		return nil, errors.New("the estate's key is not known")
	}
	sealed, err := Encrypt(plain, to)
	if err != nil {
		return nil, err
	}
	sum := mac(by, key, sealed)
	out := make([]byte, 0, len(Magic)+len(sum)+len(sealed))
	out = append(append(out, Magic...), sum...)
	return append(out, sealed...), nil
}

// Opened is an object that was decrypted and is yet to be proven.
type Opened struct {
	Plain []byte

	key  string
	mac  []byte
	body []byte // the age file
}

// Open decrypts the object under a store key. Nothing in it may be believed
// before Prove says so; only a key of the estate may be learnt from it, which is
// held against the pins.
func (b *Box) Open(key string, body []byte) (*Opened, error) {
	rest, ok := bytes.CutPrefix(body, []byte(Magic))
	if !ok {
		return nil, ErrClear
	}
	if len(rest) < sha256.Size {
		return nil, ErrDamaged
	}
	o := &Opened{key: key, mac: rest[:sha256.Size], body: rest[sha256.Size:]}
	if !b.maybe(o) { // what is forged is not worth decrypting
		return nil, ErrForged
	}
	var err error
	if o.Plain, err = b.Decrypt(o.body); err != nil {
		return nil, err
	}
	return o, nil
}

// Decrypt opens an age file that no store holds, and for which nothing vouches.
func (b *Box) Decrypt(body []byte) ([]byte, error) {
	ids, err := b.identities()
	if err != nil {
		return nil, &IdentitiesError{err}
	}
	return Decrypt(body, ids)
}

// maybe reports whether a key of the estate proves an object, or one that is not known
// yet may.
func (b *Box) maybe(o *Opened) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range b.known {
		if o.Prove(e) == nil {
			return true
		}
	}
	return len(b.known) <= len(b.pin.Former)
}

// Prove holds the object against a key of the estate.
func (o *Opened) Prove(by Estate) error {
	if len(by.Key) != keyBytes || !hmac.Equal(mac(by, o.key, o.body), o.mac) {
		return ErrForged
	}
	return nil
}

// Encrypt makes an age file.
func Encrypt(plain []byte, to []string) ([]byte, error) {
	recipients, err := Recipients(to)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.Grow(len(plain) + 1024)
	w, err := age.Encrypt(&out, recipients...)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(plain); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// UnusableError is why an identity could not be tried: the program or the agent that holds its key did not answer.
// Others are tried then.
type UnusableError struct{ Err error }

// Error is why.
func (e *UnusableError) Error() string { return e.Err.Error() }

// Unwrap has the identity count as one that does not fit, too.
func (e *UnusableError) Unwrap() []error { return []error{e.Err, age.ErrIncorrectIdentity} }

// noIdentity is ErrNoIdentity with the reasons why some identities could not be tried.
func noIdentity(tried []error) error {
	var why []string
	for _, err := range tried {
		var unusable *UnusableError
		if errors.As(err, &unusable) && !slices.Contains(why, unusable.Error()) {
			why = append(why, unusable.Error())
		}
	}
	if why == nil {
		return ErrNoIdentity
	}
	return fmt.Errorf("%w, or cannot be used: %s", ErrNoIdentity, strings.Join(why, "; "))
}

// Decrypt opens an age file.
func Decrypt(body []byte, ids []age.Identity) ([]byte, error) {
	if len(ids) == 0 {
		return nil, ErrNoIdentity
	}
	r, err := age.Decrypt(bytes.NewReader(body), ids...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, noIdentity(none.Errors)
	}
	if err != nil {
		return nil, fmt.Errorf("%w (%v)", ErrDamaged, err)
	}
	var out bytes.Buffer
	out.Grow(len(body))
	if _, err := io.Copy(&out, r); err != nil {
		return nil, fmt.Errorf("%w (%v)", ErrDamaged, err)
	}
	return out.Bytes(), nil
}
