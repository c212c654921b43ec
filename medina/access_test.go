package medina_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/driver"
	"kasbah/core/value"
	"kasbah/drivers/openapi"
	"kasbah/medina"
)

func fromFile(t *testing.T, path string) openapi.Credential {
	body, err := os.ReadFile(path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	return is(strings.TrimSpace(string(body)))
}

func is(token string) openapi.Credential {
	return func(context.Context, bool) (string, error) { return token, nil }
}

// TestTokens: each may do what its rights say, where its zones say, and acts under
// its own name.
func TestTokens(t *testing.T) {
	ctx := context.Background()
	path := filepath.Join(t.TempDir(), "medina.db")
	l, certificate, err := medina.ListenTLS("127.0.0.1:0", medina.Options{Path: path, Tokens: true})
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	first, err := l.Server.FirstToken(ctx)
	require.NoError(t, err)
	again, err := l.Server.FirstToken(ctx)
	require.NoError(t, err)
	require.Equal(t, first, again, "there is one already")
	keeper := medina.Settings{API: l.URL, CA: certificate, Token: fromFile(t, first)}

	_, err = medina.Settings{API: l.URL, Token: keeper.Token}.ListTokens(ctx)
	require.ErrorContains(t, err, "certificate", "a certificate that nobody knows is not taken")
	for _, c := range []struct {
		told  string
		token openapi.Credential
	}{
		{"asks for a token", nil},
		{"knows no such token", is("medina-WRONG")},
	} {
		t.Run(c.told, func(t *testing.T) {
			_, err = medina.Settings{API: l.URL, CA: certificate, Token: c.token}.ListTokens(ctx)
			require.ErrorContains(t, err, c.told)
		})
	}
	with := func(tok medina.Token) (medina.Settings, driver.Driver) {
		made, err := keeper.NewToken(ctx, tok)
		require.NoError(t, err)
		s := keeper
		s.Token = is(made.Token)
		d, err := s.Driver("mallory")
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, d.Close()) })
		return s, d
	}
	_, reader := with(medina.Token{Name: "reader", Rights: "read"})
	writerAt, writer := with(medina.Token{Name: "writer", Rights: "write", Zones: []string{"north-1"}})
	for _, wrong := range []medina.Token{{Name: "reader", Rights: "read"}, {Name: "", Rights: "read"},
		{Name: "x", Rights: "raed"}, {Name: "x", Rights: "read", Zones: []string{"south"}}} {
		_, err := keeper.NewToken(ctx, wrong)
		var no medina.Refused
		require.True(t, errors.As(err, &no), "%v: %v", wrong, err)
	}
	disk := value.Map{"gigabytes": int64(5)}
	_, err = reader.Create(ctx, "disk", disk, "")
	require.ErrorContains(t, err, "token reader may read, and this needs the right to write")
	made, err := writer.Create(ctx, "disk", disk, "")
	require.NoError(t, err)
	_, err = reader.Read(ctx, "disk", made.ID)
	require.NoError(t, err)
	_, err = writer.Create(ctx, "disk", value.Map{"gigabytes": int64(5), "zone": "north-2"}, "")
	require.ErrorContains(t, err, "may change things in north-1 only")
	all, err := keeper.Driver("keeper-1")
	require.NoError(t, err)
	defer all.Close()
	away, err := all.Create(ctx, "disk", value.Map{"gigabytes": int64(5), "zone": "north-2"}, "")
	require.NoError(t, err)
	_, err = writer.Update(ctx, "disk", away.ID, driver.Change{To: value.Map{"gigabytes": int64(9)}}, "", "")
	require.ErrorContains(t, err, "in north-1 only")
	require.ErrorContains(t, writer.Delete(ctx, "disk", away.ID, "", ""), "in north-1 only")
	_, err = writerAt.ListTokens(ctx)
	require.ErrorContains(t, err, "needs the right to all")
	require.ErrorContains(t, writerAt.Reset(ctx, nil), "needs the right to all")

	net, err := all.Create(ctx, "network", value.Map{"range": "10.9.0.0/16"}, "")
	require.NoError(t, err)
	pier, err := all.Create(ctx, "subnet", value.Map{"network": net.ID, "range": "10.9.2.0/24", "zone": "north-2"}, "")
	require.NoError(t, err)
	_, err = writer.Create(ctx, "machine", value.Map{"subnet": pier.ID, "size": "tiny", "image": "s"}, "")
	require.ErrorContains(t, err, "may change things in north-1 only", "a machine stands where its subnet does")
	mine, err := writer.Create(ctx, "disk", value.Map{"gigabytes": int64(5)}, "")
	require.NoError(t, err)
	_, err = writer.Update(ctx, "disk", mine.ID, driver.Change{To: value.Map{"zone": "north-2"}}, "", "")
	require.ErrorContains(t, err, "zone", "and nothing is moved out of it")
	require.NoError(t, writer.Delete(ctx, "disk", mine.ID, "", ""))

	who := map[string]string{}
	for e, err := range all.(driver.Feed).Changes(ctx, driver.Events{}) {
		require.NoError(t, err)
		who[e.ID] = e.Who
	}
	require.Equal(t, map[string]string{made.ID: "writer", mine.ID: "writer", away.ID: "keeper-1", net.ID: "keeper-1",
		pier.ID: "keeper-1"}, who, "nobody acts under another's name but who may do all")

	require.NoError(t, keeper.RevokeToken(ctx, "writer"))
	_, err = writer.Create(ctx, "disk", disk, "")
	require.ErrorContains(t, err, "knows no such token")
	require.ErrorContains(t, keeper.RevokeToken(ctx, "keeper"), "no token could be made")
	require.ErrorContains(t, keeper.RevokeToken(ctx, "nobody"), "there is no token")
	list, err := keeper.ListTokens(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	for _, tok := range list {
		require.Empty(t, tok.Token)
	}
	body, err := os.ReadFile(path)
	require.NoError(t, err)
	secret, _ := keeper.Token(ctx, false)
	require.NotContains(t, string(body), secret)
}

// TestThrottled: requests beyond the rate are put off, and a driver waits.
func TestThrottled(t *testing.T) {
	ctx := context.Background()
	d := open(t, medina.Options{Rate: 20})
	var last error
	for range 60 {
		if _, err := d.Create(ctx, "disk", value.Map{"gigabytes": int64(5)}, ""); err != nil {
			last = err
		}
	}
	require.ErrorContains(t, last, "Medina takes 20 requests a second")
	passing, after := driver.IsPassing(last)
	require.True(t, passing)
	require.Positive(t, after)
	for _, err := range d.List(ctx, "disk") {
		require.NoError(t, err, "a read waits as long as it is asked to")
	}
}
