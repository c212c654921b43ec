// Package home is what a machine keeps for a person, in the folder `kasbah` of
// their configuration: identities that open what is sealed, credentials, the
// keys of estates, and the newest entry seen of each ledger. Files are readable
// by nobody else.
package home

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"filippo.io/age/armor"
	"filippo.io/age/plugin"
	"golang.org/x/crypto/ssh"

	"kasbah/core/approval"
	"kasbah/core/disk"
	"kasbah/core/form"
	"kasbah/core/ledger"
	"kasbah/core/seal"
)

// Home is the folder of a person's keys.
type Home struct {
	Dir string
	// Ask asks for a passphrase without showing it. It is an error where nobody
	// can be asked.
	Ask func(what string) (string, error)
}

// Open uses the folder of the user who runs the program.
func Open(ask func(what string) (string, error)) (*Home, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return nil, err
	}
	return &Home{Dir: filepath.Join(dir, "kasbah"), Ask: ask}, nil
}

// identityVariable names an identity file, or holds what would be in one.
const identityVariable = "KASBAH_IDENTITY"

// holdsKey reports whether a setting is a key, or the text of a key's file, and not the
// name of one. Such a text must be in no message.
func holdsKey(v string) bool {
	return strings.ContainsAny(v, "\r\n") || strings.Contains(v, "AGE-SECRET-KEY-") || strings.Contains(v, "-----BEGIN")
}

// IdentitiesFile is where identities are kept.
func (h *Home) IdentitiesFile() string { return filepath.Join(h.Dir, "identities") }

// Identities are all that this machine can open things with: those that
// KASBAH_IDENTITY names, else the person's own and their SSH keys.
func (h *Home) Identities() ([]age.Identity, error) {
	if v := os.Getenv(identityVariable); v != "" {
		if holdsKey(v) {
			return h.parse(identityVariable, []byte(v))
		}
		ids, err := h.readFile(v)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", identityVariable, err)
		}
		return ids, nil
	}
	own, err := h.readFile(h.IdentitiesFile())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return own, nil
	}
	for _, name := range []string{"id_ed25519", "id_rsa"} {
		ids, err := h.readFile(filepath.Join(home, ".ssh", name))
		if err == nil { // a key of another kind is not ours to judge
			own = append(own, ids...)
		}
	}
	return own, nil
}

// ParseIdentities reads identities from the text of a file; path is how messages call it.
func (h *Home) ParseIdentities(path string, body []byte) ([]age.Identity, error) {
	return h.parse(path, body)
}

const maxFile = 1 << 20

func (h *Home) readFile(path string) ([]age.Identity, error) {
	body, err := keyText(path)
	if err != nil {
		return nil, err
	}
	return h.parse(path, body)
}

func keyText(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, maxFile))
}

// parse reads identities: age ones, an SSH key, or an age file that a
// passphrase protects and that holds some.
func (h *Home) parse(path string, body []byte) ([]age.Identity, error) {
	trimmed := bytes.TrimSpace(body)
	switch {
	case bytes.HasPrefix(trimmed, []byte(armor.Header)), bytes.HasPrefix(trimmed, []byte("age-encryption.org/")):
		plain, err := h.unlock(path, trimmed)
		if err != nil {
			return nil, err
		}
		return h.parse(path, plain)
	case bytes.HasPrefix(trimmed, []byte("-----BEGIN")):
		return h.parseSSH(path, body)
	}
	return h.parseLines(path, body)
}

// parseLines reads identities one a line: age's own, those of plugins, and keys that an SSH agent holds. Those of
// plugins and agents come last: each may ask a person for something.
func (h *Home) parseLines(path string, body []byte) (own []age.Identity, err error) {
	var later []age.Identity
	for n, line := range strings.Split(string(body), "\n") {
		line = strings.TrimSpace(line)
		fingerprint, isAgent := strings.CutPrefix(line, agentWord)
		switch {
		case line == "" || strings.HasPrefix(line, "#"):
		case isAgent && isFingerprint(fingerprint):
			later = append(later, newAgentIdentity(fingerprint))
		case strings.HasPrefix(line, "AGE-PLUGIN-"):
			id, err := plugin.NewIdentity(line, h.pluginTalk())
			if err != nil {
				return nil, fmt.Errorf("%s:%d: the identity of a plugin cannot be read", path, n+1)
			}
			later = append(later, pluginIdentity{id})
		default:
			ids, err := age.ParseIdentities(strings.NewReader(line))
			if err != nil {
				return nil, fmt.Errorf("%s holds no identities that can be read: line %d is none", path,
					n+1) // the library's words may show one
			}
			own = append(own, ids...)
		}
	}
	if own = append(own, later...); len(own) == 0 {
		return nil, fmt.Errorf("%s holds no identities that can be read", path)
	}
	return own, nil
}

// pluginIdentity is an identity whose key a plugin holds. What goes wrong with the plugin keeps no other identity from
// being tried.
type pluginIdentity struct{ *plugin.Identity }

// Unwrap asks the plugin.
func (i pluginIdentity) Unwrap(stanzas []*age.Stanza) ([]byte, error) {
	key, err := i.Identity.Unwrap(stanzas)
	if err != nil && !errors.Is(err, age.ErrIncorrectIdentity) {
		return nil, &seal.UnusableError{Err: fmt.Errorf("age-plugin-%s: %w", i.Name(), err)}
	}
	return key, err
}

// pluginTalk is how a plugin talks with the person.
func (h *Home) pluginTalk() *plugin.ClientUI {
	return &plugin.ClientUI{
		DisplayMessage: func(string, string) error { return nil },
		RequestValue: func(name, prompt string, _ bool) (string, error) {
			return h.Ask(fmt.Sprintf("%s (age-plugin-%s):", prompt, name))
		},
		Confirm: func(name, prompt, yes, _ string) (bool, error) {
			answer, err := h.Ask(fmt.Sprintf("%s (age-plugin-%s) Type %s:", prompt, name, yes))
			return strings.EqualFold(answer, yes), err
		},
		WaitTimer: func(string) {},
	}
}

func (h *Home) unlock(path string, body []byte) ([]byte, error) {
	pass, err := h.Ask("Passphrase of " + path + ":")
	if err != nil {
		return nil, err
	}
	id, err := age.NewScryptIdentity(pass)
	if err != nil {
		return nil, err
	}
	var r io.Reader = bytes.NewReader(body)
	if bytes.HasPrefix(body, []byte(armor.Header)) {
		r = armor.NewReader(r)
	}
	plain, err := age.Decrypt(r, id)
	if err != nil {
		return nil, fmt.Errorf("%s: the passphrase does not open it", path)
	}
	return io.ReadAll(io.LimitReader(plain, maxFile))
}

func (h *Home) parseSSH(path string, body []byte) ([]age.Identity, error) {
	id, err := agessh.ParseIdentity(body)
	var locked *ssh.PassphraseMissingError
	switch {
	case err == nil:
		return []age.Identity{id}, nil
	case !errors.As(err, &locked):
		return nil, fmt.Errorf("%s is not an SSH key that can open what is sealed: use Ed25519 or RSA", path)
	}
	public := locked.PublicKey
	if public == nil {
		text, err := os.ReadFile(path + ".pub")
		if err != nil {
			return nil, fmt.Errorf("%s has a passphrase, and its public key is not beside it: %w", path, err)
		}
		if public, _, _, _, err = ssh.ParseAuthorizedKey(text); err != nil {
			return nil, fmt.Errorf("%s.pub: %w", path, err)
		}
	}
	// asked only when something is sealed to this key
	enc, err := agessh.NewEncryptedSSHIdentity(public, body, func() ([]byte, error) {
		pass, err := h.Ask("Passphrase of " + path + ":")
		return []byte(pass), err
	})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return []age.Identity{enc}, nil
}

// Public are the public keys of the person's own age identities.
func (h *Home) Public() ([]string, error) {
	body, err := keyText(h.IdentitiesFile())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	ids, err := h.parse(h.IdentitiesFile(), body)
	if err != nil {
		return nil, err
	}
	out := noted(string(body))
	for _, id := range ids {
		if x, ok := id.(*age.X25519Identity); ok {
			out = append(out, x.Recipient().String())
		}
	}
	return out, nil
}

// noted are the public keys in the remarks above identities of plugins and agents: nothing else tells them.
func noted(text string) (out []string) {
	last := ""
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if remark, is := strings.CutPrefix(line, "#"); is {
			for _, begin := range []string{"age1", "ssh-"} {
				if at := strings.Index(remark, begin); at >= 0 {
					last = strings.TrimSpace(remark[at:])
				}
			}
			continue
		}
		if last != "" && (strings.HasPrefix(line, "AGE-PLUGIN-") || strings.HasPrefix(line, agentWord)) {
			out = append(out, last)
		}
		last = ""
	}
	return out
}

// NewIdentity makes an identity, keeps it after those that are there, and
// returns its public key.
func (h *Home) NewIdentity() (public string, err error) {
	id, err := age.GenerateX25519Identity()
	if err != nil {
		return "", err
	}
	public = id.Recipient().String()
	return public, h.addIdentity(public, id.String())
}

// addIdentity keeps the line of an identity after those that are there.
func (h *Home) addIdentity(public, line string) error {
	old, err := os.ReadFile(h.IdentitiesFile())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if trimmed := bytes.TrimSpace(old); bytes.HasPrefix(trimmed, []byte("age-encryption.org/")) ||
		bytes.HasPrefix(trimmed, []byte(armor.Header)) {
		return fmt.Errorf("%s is protected by a passphrase: decrypt it, add an identity by hand, and encrypt it "+
			"again", h.IdentitiesFile())
	}
	if len(old) > 0 && !bytes.HasSuffix(old, []byte("\n")) {
		old = append(old, '\n')
	}
	return h.write("identities", fmt.Appendf(old, "# public key: %s\n%s\n", public, line))
}

// writerVariable names the file of the private key that signs what this machine writes, or
// holds what would be in it.
const writerVariable = "KASBAH_WRITER"

// WriterFile is where the key is kept that signs what the person writes.
func (h *Home) WriterFile() string { return filepath.Join(h.Dir, "writer") }

// NewWriter makes the key that signs what the person writes, an Ed25519 one as OpenSSH
// keeps it, and returns its public key.
func (h *Home) NewWriter() (public string, err error) {
	if _, err := os.Stat(h.WriterFile()); err == nil {
		return "", fmt.Errorf("%s is there already", h.WriterFile())
	}
	pub, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return "", err
	}
	if err := h.write("writer", pem.EncodeToMemory(block)); err != nil {
		return "", err
	}
	k, err := ssh.NewPublicKey(pub)
	if err != nil {
		return "", err
	}
	return authorized(k), nil
}

func authorized(k ssh.PublicKey) string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(k)))
}

// WriterPublic is the public key of WriterFile; fs.ErrNotExist when there is none.
func (h *Home) WriterPublic() (string, error) {
	k, _, err := signingKey(h.WriterFile())
	if err != nil {
		return "", err
	}
	return authorized(k), nil
}

// SigningKey is a private key that signs what a person writes.
type SigningKey struct {
	Public string // as in an authorized_keys file
	body   []byte
	ask    func() ([]byte, error)
	agent  ssh.Signer // that holds it; nil for a key in a file
}

// Signer opens the key, and asks for its passphrase where it has one.
func (k *SigningKey) Signer() (ssh.Signer, error) {
	if k.agent != nil {
		return k.agent, nil
	}
	return approval.Private(k.body, k.ask)
}

// Writer is the first private key of this machine among some public ones: that of
// KASBAH_WRITER, else the person's own and their SSH keys, also those that an SSH agent holds. It is nil when there
// is none.
func (h *Home) Writer(among []string) (*SigningKey, error) {
	named := os.Getenv(writerVariable)
	if named == inAgent {
		return agentWriter(among), nil
	}
	paths := []string{h.WriterFile()}
	if named != "" {
		paths = []string{named}
	} else if home, err := os.UserHomeDir(); err == nil {
		for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
			paths = append(paths, filepath.Join(home, ".ssh", name))
		}
	}
	listed := map[string]bool{}
	for _, text := range among {
		if k, err := approval.Public(text); err == nil {
			listed[approval.Fingerprint(k)] = true
		}
	}
	for i, path := range paths {
		public, body, err := signingKey(path)
		switch {
		case err == nil && listed[approval.Fingerprint(public)]:
			return &SigningKey{Public: authorized(public), body: body, ask: func() ([]byte, error) {
				name := path
				if holdsKey(path) {
					name = writerVariable
				}
				pass, err := h.Ask("Passphrase of " + name + ":")
				return []byte(pass), err
			}}, nil
		case err != nil && named != "":
			return nil, fmt.Errorf("%s: %w", writerVariable, err)
		case err != nil && (i == 0 && !errors.Is(err, fs.ErrNotExist)):
			return nil, fmt.Errorf("the key that signs what is written: %w", err)
		} // an SSH key of another kind is not ours to judge
	}
	if named != "" {
		return nil, nil
	}
	return agentWriter(among), nil
}

// inAgent is what KASBAH_WRITER says where an SSH agent holds the key.
const inAgent = "agent"

// agentWriter is the agent's key among some; nil for none.
func agentWriter(among []string) *SigningKey {
	if s := AgentSigner(among); s != nil {
		return &SigningKey{Public: authorized(s.PublicKey()), agent: s}
	}
	return nil
}

// signingKey reads a private key from its file, or from the text of one, and its public
// key without a passphrase.
func signingKey(path string) (ssh.PublicKey, []byte, error) {
	body, err := []byte(path), error(nil)
	if holdsKey(path) {
		path = writerVariable
	} else if body, err = keyText(path); err != nil {
		return nil, nil, err
	}
	public, err := publicOf(path, body)
	return public, body, err
}

// publicOf is the public key of a private one, without a passphrase.
func publicOf(path string, body []byte) (ssh.PublicKey, error) {
	s, err := ssh.ParsePrivateKey(body)
	var locked *ssh.PassphraseMissingError
	switch {
	case err == nil:
		return s.PublicKey(), nil
	case errors.As(err, &locked) && locked.PublicKey != nil:
		return locked.PublicKey, nil
	case errors.As(err, &locked):
		text, err := os.ReadFile(path + ".pub")
		if err != nil {
			return nil, fmt.Errorf("%s has a passphrase, and its public key is not beside it: %w", path, err)
		}
		k, _, _, _, err := ssh.ParseAuthorizedKey(text)
		return k, err
	}
	return nil, fmt.Errorf("%s cannot sign: it is not an Ed25519, ECDSA or RSA private key", path)
}

// write replaces a file below the folder, whole or not at all.
func (h *Home) write(name string, body []byte) error {
	path := filepath.Join(h.Dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return disk.ReplacePrivate(path, body)
}

// KeepEstate keeps an estate's key, sealed to some recipients.
func (h *Home) KeepEstate(e seal.Estate, to []string) error {
	plain, err := json.Marshal(e)
	if err != nil {
		return err
	}
	body, err := seal.Encrypt(plain, to)
	if err != nil {
		return err
	}
	return h.write("estates/"+e.ID+".age", body)
}

// Estate reads an estate's key; fs.ErrNotExist when it is not here.
func (h *Home) Estate(id string) (seal.Estate, error) {
	var e seal.Estate
	body, err := os.ReadFile(filepath.Join(h.Dir, "estates", filepath.Base(id)+".age"))
	if err != nil {
		return e, err
	}
	ids, err := h.Identities()
	if err != nil {
		return e, err
	}
	plain, err := seal.Decrypt(body, ids)
	if err != nil {
		return e, err
	}
	return e, json.Unmarshal(plain, &e)
}

var nameForm = form.Of(`^[a-z][a-z0-9_.-]*$`)

// CheckName is an error for what cannot be the name of a credential or a reader.
func CheckName(name string) error {
	if !nameForm().MatchString(name) {
		return fmt.Errorf("%q is not a valid name: use a-z, 0-9, -, _ and ., starting with a letter", name)
	}
	return nil
}

// Keep keeps a credential.
func (h *Home) Keep(name, text string) error {
	if err := CheckName(name); err != nil {
		return err
	}
	return h.write("credentials/"+name, []byte(text))
}

// Credential reads a credential; fs.ErrNotExist when it is not kept.
func (h *Home) Credential(name string) (string, error) {
	if err := CheckName(name); err != nil {
		return "", err
	}
	body, err := os.ReadFile(filepath.Join(h.Dir, "credentials", name))
	return string(body), err
}

// Forget removes a credential; fs.ErrNotExist when it is not kept.
func (h *Home) Forget(name string) error {
	if err := CheckName(name); err != nil {
		return err
	}
	return os.Remove(filepath.Join(h.Dir, "credentials", name))
}

// Credentials lists the names of what is kept, in byte order.
func (h *Home) Credentials() ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(h.Dir, "credentials"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []string
	for _, e := range entries {
		if nameForm().MatchString(e.Name()) {
			out = append(out, e.Name())
		}
	}
	slices.Sort(out)
	return out, err
}

// Heads remembers the newest entries seen of an estate's ledgers. It is a
// ledger.Memory.
type Heads struct {
	h      *Home
	estate string
}

// Heads are those of the estate with an id.
func (h *Home) Heads(estate string) Heads { return Heads{h, estate} }

func (m Heads) name(ledger string) string {
	return "seen/" + m.estate + "/" + strings.ReplaceAll(strings.Trim(ledger, "/"), "/", "_") + ".json"
}

// Newest is the newest entry seen of a ledger.
func (m Heads) Newest(of string) (is ledger.Head, err error) {
	body, err := os.ReadFile(filepath.Join(m.h.Dir, filepath.FromSlash(m.name(of))))
	if errors.Is(err, fs.ErrNotExist) {
		return is, nil
	}
	if err == nil {
		err = json.Unmarshal(body, &is)
	}
	if err != nil {
		return is, fmt.Errorf("what was seen of the ledger before cannot be read: %w", err)
	}
	return is, nil
}

// Remember takes a newer entry.
func (m Heads) Remember(of string, newest ledger.Head) error {
	body, err := json.Marshal(newest)
	if err != nil {
		return err
	}
	return m.h.write(m.name(of), append(body, '\n'))
}
