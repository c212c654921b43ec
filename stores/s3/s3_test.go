package s3_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"testing"

	"github.com/stretchr/testify/require"

	"kasbah/core/store"
	"kasbah/stores/s3"
	"kasbah/stores/servertest"
	"kasbah/stores/storetest"
)

func settings(endpoint, prefix string) s3.Settings {
	return s3.Settings{Endpoint: endpoint, Bucket: servertest.Bucket, Prefix: prefix, AccessKey: servertest.AccessKey,
		SecretKey: servertest.SecretKey}
}

func open(t *testing.T, s s3.Settings) store.Store {
	out, err := s3.Open(s)
	require.NoError(t, err)
	t.Cleanup(func() { out.Close() })
	return out
}

func TestConformance(t *testing.T) {
	server := servertest.S3(t)
	n := 0
	storetest.Run(t, func(t *testing.T) func() store.Store {
		n++
		prefix := fmt.Sprintf("team/ledger-%d", n)
		return func() store.Store { return open(t, settings(server.URL(), prefix)) }
	})
	storetest.Faults(t, server, func(t *testing.T, address string) store.Store {
		return open(t, settings("http://"+address, ""))
	})
}

// A server that ignores the condition is refused before anything that counts
// is written there; a wrong key, a missing bucket and no bucket at all say so.
func TestRefused(t *testing.T) {
	ctx := context.Background()
	server := servertest.S3(t)
	to, err := url.Parse(server.URL())
	require.NoError(t, err)
	careless := httptest.NewServer(&httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(to)
		r.Out.Host = r.In.Host
	}, ModifyResponse: func(r *http.Response) error {
		if r.StatusCode == http.StatusPreconditionFailed { // as if it had written
			r.StatusCode, r.Status = http.StatusOK, "200 OK"
			r.Body = io.NopCloser(http.NoBody)
			r.ContentLength = 0
			r.Header.Del("Content-Length")
		}
		return nil
	}})
	defer careless.Close()
	s := open(t, settings(careless.URL, ""))
	require.ErrorContains(t, s.PutIfAbsent(ctx, "a/log/0000000001", []byte("x")), "ignores conditional writes")
	_, err = open(t, settings(server.URL(), "")).Get(ctx, "a/log/0000000001")
	require.ErrorIs(t, err, store.ErrNotFound)

	wrong := settings(server.URL(), "")
	wrong.SecretKey = "not-this-one"
	err = open(t, wrong).PutIfAbsent(ctx, "a/log/0000000001", []byte("x"))
	require.ErrorContains(t, err, "writing to the bucket ledgers: secret_key: ")
	require.NotContains(t, err.Error(), "not-this-one")
	nowhere := settings(server.URL(), "")
	nowhere.Bucket = "not-there"
	_, err = open(t, nowhere).Get(ctx, "a/log/0000000001")
	require.ErrorContains(t, err, "bucket: there is no bucket not-there")
	for _, bad := range []s3.Settings{{}, {Endpoint: "host"}, {Endpoint: server.URL()}, {Endpoint: server.URL(),
		Bucket: "a", AccessKey: "x"}, {Endpoint: server.URL(), Bucket: "a", AccessKey: "x", SecretKey: "y",
		Prefix: "/x/"}} {
		_, err := s3.Open(bad)
		require.Error(t, err)
	}
}
