package approval

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"kasbah/core/value"
)

// TestKeys: every kind of key, as people have them, signs and is recognised;
// over other bytes, or by another key, nothing is.
func TestKeys(t *testing.T) {
	_, ed, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	rs, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	for _, c := range []struct {
		name string
		key  any
	}{
		{"ed25519", ed},
		{"ecdsa", ec},
		{"rsa", rs},
	} {
		t.Run(c.name, func(t *testing.T) {
			open, err := ssh.MarshalPrivateKey(c.key, "")
			require.NoError(t, err)
			locked, err := ssh.MarshalPrivateKeyWithPassphrase(c.key, "", []byte("low tide"))
			require.NoError(t, err)
			pkcs8, err := x509.MarshalPKCS8PrivateKey(c.key)
			require.NoError(t, err)
			asked := 0
			for _, block := range []*pem.Block{open, locked, {Type: "PRIVATE KEY", Bytes: pkcs8}} {
				s, err := Private(pem.EncodeToMemory(block),
					func() ([]byte, error) { asked++; return []byte("low tide"), nil })
				require.NoError(t, err)
				e := Wrap([]byte(`{"format":"x"}`))
				added, err := e.Sign(s)
				require.NoError(t, err)
				require.True(t, added)
				body, err := json.Marshal(e.Envelope)
				require.NoError(t, err)
				again, payload, ok, err := Open(body)
				require.NoError(t, err)
				require.True(t, ok)
				require.Equal(t, `{"format":"x"}`, string(payload))
				keys := map[string]string{"keeper-2": string(ssh.MarshalAuthorizedKey(s.PublicKey()))}
				got, err := again.Check(keys)
				require.NoError(t, err)
				require.Equal(t, Signed{By: []string{"keeper-2"}}, got)
				other := Wrap([]byte(`{"format":"y"}`))
				other.Signatures = again.Signatures
				got, err = other.Check(keys)
				require.NoError(t, err)
				require.Equal(t, Signed{Wrong: []string{"keeper-2"}}, got)
				got, err = again.Check(nil)
				require.NoError(t, err)
				require.Equal(t, Signed{Strangers: []string{Fingerprint(s.PublicKey())}}, got)
			}
			require.Equal(t, 1, asked, "only the one that is protected asks")
			_, err = Private(pem.EncodeToMemory(locked), func() ([]byte, error) {
				return nil,
					errors.New("nobody is there")
			})
			require.ErrorContains(t, err, "nobody is there")
			_, err = Private(pem.EncodeToMemory(locked), func() ([]byte, error) { return []byte("high tide"), nil })
			require.Error(t, err)
		})
	}
}

// TestPublic: one key in its three forms is one key.
func TestPublic(t *testing.T) {
	public, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	k, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	pkix, err := x509.MarshalPKIXPublicKey(public)
	require.NoError(t, err)
	line := string(ssh.MarshalAuthorizedKey(k))
	for _, s := range []string{line, line[:len(line)-1] + " keeper@tower",
		"ed25519 " + base64.StdEncoding.EncodeToString(public), "ed25519 " + base64.StdEncoding.EncodeToString(pkix)} {
		got, err := Public(s)
		require.NoError(t, err, s)
		require.Equal(t, Fingerprint(k), Fingerprint(got))
	}
	for _, s := range []string{"", "ed25519", "ed25519 AAAA", "ed25519 not base64!", "ssh-ed25519 AAAA", line + line,
		"ssh-rsa what"} {
		_, err := Public(s)
		require.Error(t, err, s)
	}
}

// TestPolicy: what a policy asks for, and that its digest moves with each part
// and with nothing else.
func TestPolicy(t *testing.T) {
	var none *Policy
	require.Empty(t, none.Digest())
	require.Empty(t, none.Asks(map[string]bool{"drop": true}))
	k, err := Read(value.Map{})
	require.NoError(t, err)
	require.Nil(t, k)
	public, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	line := "ed25519 " + base64.StdEncoding.EncodeToString(public)
	read := func(m value.Map) *Policy {
		m["keys"] = map[string]any{"keeper-1": line}
		p, err := Read(m)
		require.NoError(t, err)
		return p
	}
	every := read(value.Map{})
	require.Equal(t, &Policy{Signatures: 1, Keys: map[string]string{"keeper-1": line}, Valid: "72h"}, every)
	require.Equal(t, []string{"every change"}, every.Asks(map[string]bool{"new": true, "drop": false}))
	require.Empty(t, every.Asks(map[string]bool{"new": false}))
	some := read(value.Map{"for": []any{"drop", "data"}, "valid": "90m"})
	require.Equal(t, "1h30m", some.Valid)
	require.Equal(t, []string{"data", "drop"}, some.Asks(map[string]bool{"new": true, "drop": true, "data": true}))
	require.Empty(t, some.Asks(map[string]bool{"new": true, "edit": true}))
	at := time.Date(2031, 1, 2, 3, 4, 5, 0, time.UTC)
	require.Equal(t, at.Add(90*time.Minute), some.Ends(at))
	require.Equal(t, every.Digest(), read(value.Map{"valid": "4320m", "signatures": int64(1)}).Digest(),
		"one time is one time")
	seen := map[string]bool{every.Digest(): true, some.Digest(): true}
	for _, p := range []*Policy{{Signatures: 2, Keys: every.Keys, Valid: "72h"}, {Signatures: 1, Keys: every.Keys,
		Valid: "71h"}, {Signatures: 1, Keys: map[string]string{"keeper-2": line}, Valid: "72h"},
		{Signatures: 1, Keys: every.Keys, For: []string{"new"}, Valid: "72h"}} {
		require.False(t, seen[p.Digest()], "%+v", p)
		seen[p.Digest()] = true
	}
}

// FuzzOpen: whatever bytes come, an envelope is opened or refused, and what is
// opened is checked without a fall.
func FuzzOpen(f *testing.F) {
	f.Add([]byte(`{"payloadType":"application/vnd.kasbah.proposal+json","payload":"e30=","signatures":[{"keyid":"a","sig":"AAAA"}]}`))
	f.Add([]byte(`{"payloadType":"x","payload":"","signatures":null}`))
	f.Add([]byte(`{"payloadType":null}`))
	public, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(f, err)
	keys := map[string]string{"keeper-1": "ed25519 " + base64.StdEncoding.EncodeToString(public)}
	f.Fuzz(func(t *testing.T, body []byte) {
		e, _, ok, err := Open(body)
		if !ok || err != nil {
			return
		}
		got, err := e.Check(keys)
		require.NoError(t, err)
		require.Empty(t, got.By, "nobody has signed")
	})
}
