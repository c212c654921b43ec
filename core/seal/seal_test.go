package seal_test

import (
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"

	"kasbah/core/seal"
)

func box(t testing.TB) (*seal.Box, *age.X25519Identity) {
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	e := seal.NewEstate()
	b, err := seal.NewBox(e.Pin(), []string{id.Recipient().String()}, func() ([]age.Identity,
		error) {
		return []age.Identity{id}, nil
	})
	require.NoError(t, err)
	require.NoError(t, b.Learn(e))
	return b, id
}

func TestBox(t *testing.T) {
	b, _ := box(t)
	e, _ := b.Estate()
	body, err := seal.Seal(e, "a/log/1", []byte("a word"), b.Recipients)
	require.NoError(t, err)
	require.True(t, seal.IsSealed(body))
	o, err := b.Open("a/log/1", body)
	require.NoError(t, err)
	require.Equal(t, "a word", string(o.Plain))
	require.NoError(t, o.Prove(e))
	_, err = b.Open("a/log/2", body)
	require.ErrorIs(t, err, seal.ErrForged, "it stands under another key")
	_, err = b.Open("a/log/1", []byte("a word"))
	require.ErrorIs(t, err, seal.ErrClear)
	other, _ := box(t)
	_, err = other.Open("a/log/1", body)
	require.ErrorIs(t, err, seal.ErrForged)
	require.ErrorIs(t, b.Learn(seal.NewEstate()), seal.ErrOtherKey)
}

func TestRecipients(t *testing.T) {
	for _, c := range []struct{ text, words string }{
		{"", "is not a recipient"},
		{"keeper-1", "is not a recipient"},
		{"AGE-SECRET-KEY-1HIDDEN", "this is a private one"},
		{"age1x", ""},
		{"ssh-ed25519 x", ""},
		{"ssh-dss AAAA", ""},
	} {
		t.Run(c.text, func(t *testing.T) {
			_, err := seal.Recipient(c.text)
			require.Error(t, err, c.text)
			require.ErrorContains(t, err, c.words)
			require.NotContains(t, err.Error(), "HIDDEN")
		})
	}
	_, err := seal.NewBox(seal.Pin{}, nil, nil)
	require.ErrorContains(t, err, "there are no recipients")
}

// FuzzOpen: no bytes make opening panic, and nothing opens that was not sealed.
func FuzzOpen(f *testing.F) {
	b, id := box(f)
	e, _ := b.Estate()
	good, err := seal.Seal(e, "a/log/1", []byte("a word"), b.Recipients)
	require.NoError(f, err)
	file, err := seal.SealFile([]byte("a word"), seal.FileHead{Recipients: b.Recipients})
	require.NoError(f, err)
	f.Add(good)
	f.Add(file)
	f.Add([]byte(seal.Magic))
	f.Fuzz(func(t *testing.T, body []byte) {
		if o, err := b.Open("a/log/1", body); err == nil {
			require.Equal(t, good, body, "only what was sealed opens")
			require.Equal(t, "a word", string(o.Plain))
		}
		if seal.IsSealedFile(body) {
			plain, _, err := seal.OpenFile(body, func() ([]age.Identity, error) { return []age.Identity{id}, nil })
			if err == nil {
				require.Equal(t, "a word", string(plain))
			}
		}
	})
}
