package home

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"filippo.io/age"
	"filippo.io/age/armor"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"kasbah/core/ledger"
	"kasbah/core/seal"
)

// home is a person's on a machine of its own.
func home(t *testing.T, passphrases ...string) *Home {
	t.Setenv("HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(os.Getenv("HOME"), "config"))
	t.Setenv(identityVariable, "")
	h, err := Open(func(string) (string, error) {
		if len(passphrases) == 0 {
			return "", errors.New("nobody can be asked")
		}
		p := passphrases[0]
		passphrases = passphrases[1:]
		return p, nil
	})
	require.NoError(t, err)
	return h
}

// opens reports whether the home can open what is sealed to a key.
func opens(t *testing.T, h *Home, public string) error {
	body, err := seal.SealFile([]byte("a word"), seal.FileHead{Recipients: []string{public}})
	require.NoError(t, err)
	got, to, err := seal.OpenFile(body, h.Identities)
	if err == nil {
		require.Equal(t, "a word", string(got))
		require.Equal(t, []string{public}, to.Recipients)
	}
	return err
}

func TestIdentities(t *testing.T) {
	h := home(t)
	mine, err := h.Public()
	require.NoError(t, err)
	require.Empty(t, mine)
	one, err := h.NewIdentity()
	require.NoError(t, err)
	require.NoError(t, opens(t, h, one))
	two, err := h.NewIdentity()
	require.NoError(t, err)
	mine, err = h.Public()
	require.NoError(t, err)
	require.Equal(t, []string{one, two}, mine)
	require.NoError(t, opens(t, h, one), "the older one opens what was sealed to it")
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	require.ErrorIs(t, opens(t, h, other.Recipient().String()), seal.ErrNoIdentity)
	if runtime.GOOS != "windows" {
		info, err := os.Stat(h.IdentitiesFile())
		require.NoError(t, err)
		require.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
	}

	// from the environment, itself or as a file
	t.Setenv(identityVariable, other.String())
	require.NoError(t, opens(t, h, other.Recipient().String()))
	require.ErrorIs(t, opens(t, h, one), seal.ErrNoIdentity, "only that one")
	file := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(file, []byte("# a note\n"+other.String()+"\n"), 0o600))
	t.Setenv(identityVariable, file)
	require.NoError(t, opens(t, h, other.Recipient().String()))
	for _, wrong := range []string{"AGE-SECRET-KEY-1NOTAKEY", filepath.Join(t.TempDir(), "none")} {
		t.Setenv(identityVariable, wrong)
		err := opens(t, h, one)
		require.Error(t, err)
		require.NotContains(t, err.Error(), "NOTAKEY")
	}
	require.NoError(t, os.WriteFile(file, []byte("AGE-SECRET-KEY-1HIDDEN\n"), 0o600))
	t.Setenv(identityVariable, file)
	err = opens(t, h, one)
	require.ErrorContains(t, err, "holds no identities that can be read")
	require.NotContains(t, err.Error(), "HIDDEN")
}

// TestPassphrases: a protected file of identities, and SSH keys with and
// without a passphrase; one is asked for when something is sealed to it.
func TestPassphrases(t *testing.T) {
	h := home(t, "wrong", "right", "right")
	public, err := h.NewIdentity()
	require.NoError(t, err)
	plain, err := os.ReadFile(h.IdentitiesFile())
	require.NoError(t, err)
	lock, err := age.NewScryptRecipient("right")
	require.NoError(t, err)
	lock.SetWorkFactor(10)
	var out bytes.Buffer
	a := armor.NewWriter(&out)
	w, err := age.Encrypt(a, lock)
	require.NoError(t, err)
	_, err = w.Write(plain)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, a.Close())
	require.NoError(t, os.WriteFile(h.IdentitiesFile(), out.Bytes(), 0o600))
	require.ErrorContains(t, opens(t, h, public), "the passphrase does not open it")
	require.NoError(t, opens(t, h, public))
	_, err = h.NewIdentity()
	require.ErrorContains(t, err, "protected by a passphrase")

	h = home(t, "right")
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	key := string(bytes.TrimSpace(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	dir := filepath.Join(os.Getenv("HOME"), ".ssh")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "id_ed25519"), pem.EncodeToMemory(block), 0o600))
	require.NoError(t, opens(t, h, key))
	block, err = ssh.MarshalPrivateKeyWithPassphrase(private, "", []byte("right"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "id_ed25519"), pem.EncodeToMemory(block), 0o600))
	mine, err := h.NewIdentity()
	require.NoError(t, err)
	require.NoError(t, opens(t, h, mine), "nobody is asked for a key that is not needed")
	require.NoError(t, opens(t, h, key))
	require.ErrorContains(t, opens(t, h, key), "nobody can be asked", "and each time anew")
}

func TestCredentials(t *testing.T) {
	h := home(t)
	_, err := h.Credential("ledger-password")
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, h.Keep("ledger-password", "hidden"))
	require.NoError(t, h.Keep("beacon.token", "hidden too"))
	got, err := h.Credential("ledger-password")
	require.NoError(t, err)
	require.Equal(t, "hidden", got)
	names, err := h.Credentials()
	require.NoError(t, err)
	require.Equal(t, []string{"beacon.token", "ledger-password"}, names)
	require.NoError(t, h.Forget("beacon.token"))
	require.ErrorIs(t, h.Forget("beacon.token"), fs.ErrNotExist)
	for _, bad := range []string{"", "../identities", "a/b", "A", ".new-1"} {
		require.Error(t, h.Keep(bad, "x"), bad)
		_, err := h.Credential(bad)
		require.Error(t, err, bad)
		require.Error(t, h.Forget(bad), bad)
	}
}

func TestHeads(t *testing.T) {
	h := home(t)
	m := h.Heads("estate-1")
	seen, err := m.Newest("coast/live/shore/")
	require.NoError(t, err)
	require.Zero(t, seen)
	require.NoError(t, m.Remember("coast/live/shore/", ledger.Head{Seq: 12, Hash: "abc", Accepted: 1}))
	seen, err = h.Heads("estate-1").Newest("coast/live/shore/")
	require.NoError(t, err)
	require.Equal(t, ledger.Head{Seq: 12, Hash: "abc", Accepted: 1}, seen)
	for _, other := range []string{"coast/live/signal/", "coast/trial/shore/"} {
		seen, err = m.Newest(other)
		require.NoError(t, err)
		require.Zero(t, seen)
	}
	seen, err = h.Heads("estate-2").Newest("coast/live/shore/")
	require.NoError(t, err)
	require.Zero(t, seen, "another estate of the same name is another one")
	require.NoError(t, os.WriteFile(filepath.Join(h.Dir, "seen", "estate-1", "coast_live_shore.json"), []byte("{"),
		0o600))
	_, err = m.Newest("coast/live/shore/")
	require.ErrorContains(t, err, "cannot be read")
}

func TestEstateKey(t *testing.T) {
	h := home(t)
	public, err := h.NewIdentity()
	require.NoError(t, err)
	e := seal.NewEstate()
	_, err = h.Estate(e.ID)
	require.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, h.KeepEstate(e, []string{public}))
	got, err := h.Estate(e.ID)
	require.NoError(t, err)
	require.Equal(t, e, got)
	require.True(t, e.Pin().Holds(got))
}
