package s3_test

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	v4 "github.com/aws/aws-sdk-go-v2/aws/signer/v4"
	"github.com/stretchr/testify/require"

	"kasbah/stores/s3"
	"kasbah/stores/servertest"
)

// nothingKnown is a machine without any AWS settings.
func nothingKnown(t *testing.T) (home string) {
	home = t.TempDir()
	for _, pair := range os.Environ() {
		if name, _, _ := strings.Cut(pair, "="); strings.HasPrefix(name, "AWS_") {
			t.Setenv(name, "")
			require.NoError(t, os.Unsetenv(name))
		}
	}
	t.Setenv("HOME", home)
	t.Setenv("AWS_CONFIG_FILE", filepath.Join(home, "config"))
	t.Setenv("AWS_SHARED_CREDENTIALS_FILE", filepath.Join(home, "credentials"))
	t.Setenv("AWS_EC2_METADATA_DISABLED", "true")
	return home
}

func write(t *testing.T, path, body string) {
	require.NoError(t, os.WriteFile(path, []byte(body), 0o600))
}

// TestCredentials: a ledger's bucket is opened as everything else on AWS: through a profile,
// the environment, a role that is assumed with a web identity, and an instance's metadata.
func TestCredentials(t *testing.T) {
	server := servertest.S3(t)
	// the server knows no sessions: a gateway signs anew what carries the token of one
	signer := v4.NewSigner(func(o *v4.SignerOptions) { o.DisableURIPathEscaping = true })
	var mu sync.Mutex
	var tokens []string
	to, err := url.Parse(server.URL())
	require.NoError(t, err)
	gateway := httptest.NewServer(&httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(to)
		r.Out.Host = r.In.Host
		token := r.In.Header.Get("X-Amz-Security-Token")
		mu.Lock()
		tokens = append(tokens, token)
		mu.Unlock()
		if token == "" {
			return
		}
		r.Out.Header.Del("X-Amz-Security-Token")
		r.Out.Header.Del("Authorization")
		r.Out.Header.Del("X-Forwarded-For")
		who := aws.Credentials{AccessKeyID: servertest.AccessKey, SecretAccessKey: servertest.SecretKey}
		if err := signer.SignHTTP(context.Background(), who, r.Out, r.In.Header.Get("X-Amz-Content-Sha256"), "s3",
			"us-east-1", time.Now()); err != nil {
			t.Error(err)
		}
	}})
	t.Cleanup(gateway.Close)
	expires := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	for _, c := range []struct {
		name string
		c    struct {
			set     func(t *testing.T, home string) s3.Settings
			session string
		}
	}{
		{"profile", struct {
			set     func(t *testing.T, home string) s3.Settings
			session string
		}{func(t *testing.T, home string) s3.Settings {
			write(t, filepath.Join(home, "config"),
				"[profile coast]\nregion = us-east-1\nendpoint_url = "+gateway.URL+"\n")
			write(t, filepath.Join(home, "credentials"), fmt.Sprintf("[coast]\naws_access_key_id = "+
				"%s\naws_secret_access_key = %s\n", servertest.AccessKey, servertest.SecretKey))
			return s3.Settings{Bucket: servertest.Bucket, Profile: "coast"}
		}, ""}},
		{"environment", struct {
			set     func(t *testing.T, home string) s3.Settings
			session string
		}{func(t *testing.T, home string) s3.Settings {
			t.Setenv("AWS_ACCESS_KEY_ID", servertest.AccessKey)
			t.Setenv("AWS_SECRET_ACCESS_KEY", servertest.SecretKey)
			t.Setenv("AWS_REGION", "us-east-1")
			return s3.Settings{Bucket: servertest.Bucket, Endpoint: gateway.URL}
		}, ""}},
		{"web identity", struct {
			set     func(t *testing.T, home string) s3.Settings
			session string
		}{func(t *testing.T, home string) s3.Settings {
			service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				body, _ := io.ReadAll(r.Body)
				asked, err := url.ParseQuery(string(body))
				if err != nil || asked.Get("Action") != "AssumeRoleWithWebIdentity" ||
					asked.Get("WebIdentityToken") != "a-token-of-the-pipeline" ||
					asked.Get("RoleArn") != "arn:aws:iam::123456789012:role/ledger" {
					w.WriteHeader(http.StatusBadRequest)
					return
				}
				w.Header().Set("Content-Type", "text/xml")
				fmt.Fprintf(w, `<AssumeRoleWithWebIdentityResponse xmlns="https://sts.amazonaws.com/doc/2011-06-15/"><AssumeRoleWithWebIdentityResult><Credentials>
<AccessKeyId>%s</AccessKeyId><SecretAccessKey>%s</SecretAccessKey><SessionToken>of-the-role</SessionToken><Expiration>%s</Expiration></Credentials></AssumeRoleWithWebIdentityResult></AssumeRoleWithWebIdentityResponse>`,
					servertest.AccessKey, servertest.SecretKey, expires)
			}))
			t.Cleanup(service.Close)
			write(t, filepath.Join(home, "token"), "a-token-of-the-pipeline")
			t.Setenv("AWS_ROLE_ARN", "arn:aws:iam::123456789012:role/ledger")
			t.Setenv("AWS_WEB_IDENTITY_TOKEN_FILE", filepath.Join(home, "token"))
			t.Setenv("AWS_ENDPOINT_URL_STS", service.URL)
			return s3.Settings{Bucket: servertest.Bucket, Endpoint: gateway.URL, Region: "us-east-1"}
		}, "of-the-role"}},
		{"instance", struct {
			set     func(t *testing.T, home string) s3.Settings
			session string
		}{func(t *testing.T, home string) s3.Settings {
			metadata := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				switch {
				case r.Method == http.MethodPut && r.URL.Path == "/latest/api/token":
					w.Header().Set("X-Aws-Ec2-Metadata-Token-Ttl-Seconds", "21600")
					fmt.Fprint(w, "metadata-token")
				case r.Header.Get("X-Aws-Ec2-Metadata-Token") != "metadata-token":
					w.WriteHeader(http.StatusUnauthorized)
				case r.URL.Path == "/latest/meta-data/iam/security-credentials/":
					fmt.Fprint(w, "keeper")
				case r.URL.Path == "/latest/meta-data/iam/security-credentials/keeper":
					fmt.Fprintf(w,
						`{"Code":"Success","AccessKeyId":%q,"SecretAccessKey":%q,"Token":"of-the-instance","Expiration":%q}`, servertest.AccessKey, servertest.SecretKey, expires)
				default:
					w.WriteHeader(http.StatusNotFound)
				}
			}))
			t.Cleanup(metadata.Close)
			t.Setenv("AWS_EC2_METADATA_DISABLED", "false")
			t.Setenv("AWS_EC2_METADATA_SERVICE_ENDPOINT", metadata.URL)
			return s3.Settings{Bucket: servertest.Bucket, Endpoint: gateway.URL, Region: "us-east-1"}
		}, "of-the-instance"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := open(t, c.c.set(t, nothingKnown(t)))
			mu.Lock()
			tokens = nil
			mu.Unlock()
			key := "a/log/" + strings.ReplaceAll(c.name, " ", "-")
			require.NoError(t, s.PutIfAbsent(context.Background(), key, []byte("x")))
			got, err := s.Get(context.Background(), key)
			require.NoError(t, err)
			require.Equal(t, "x", string(got))
			mu.Lock()
			defer mu.Unlock()
			require.NotEmpty(t, tokens)
			for _, token := range tokens {
				require.Equal(t, c.c.session, token)
			}
		})
	}
}

// TestSettings: each setting that is wrong is named, with what is wrong about it, and no
// credential is shown.
func TestSettings(t *testing.T) {
	server := servertest.S3(t)
	answers := func(status int, code, message string) string {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/xml")
			w.WriteHeader(status)
			_ = xml.NewEncoder(w).Encode(struct {
				XMLName       xml.Name `xml:"Error"`
				Code, Message string
			}{Code: code, Message: message})
		}))
		t.Cleanup(s.Close)
		return s.URL
	}
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	t.Cleanup(secure.Close)
	for _, c := range []struct {
		name string
		c    struct {
			change func(s *s3.Settings)
			says   string
		}
	}{
		{"bucket", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.Bucket = "not-there" }, "bucket: there is no bucket not-there at " +
			server.URL()}},
		{"endpoint", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.Endpoint = "http://s3.lantern.invalid" },
			"endpoint: no host is called s3.lantern.invalid"}},
		{"not there", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.Endpoint = "http://127.0.0.1:1" },
			"endpoint: http://127.0.0.1:1 cannot be reached"}},
		{"access key", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.AccessKey = "nobody-knows" }, "access_key: "}},
		{"secret key", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.SecretKey = "not-this-one" }, "secret_key: "}},
		{"certificate", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.Endpoint = secure.URL }, "ca: the certificate of " + secure.URL +
			" is not trusted"}},
		{"clock", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) {
			s.Endpoint = answers(403, "RequestTimeTooSkewed", "The difference between the request time and the "+
				"current time is too large.")
		}, "the clock of this machine: it differs too much"}},
		{"region", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) {
			s.Endpoint = answers(400, "AuthorizationHeaderMalformed",
				"The authorization header is malformed; the region 'us-east-1' is wrong; expecting 'north-1'")
		}, "region: the bucket ledgers is in another region"}},
		{"moved", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) {
			s.Endpoint = answers(301, "PermanentRedirect", "The bucket you are attempting to access must be "+
				"addressed using the specified endpoint.")
		}, "region: the bucket ledgers is in another region"}},
		{"session", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) {
			s.Endpoint = answers(400, "ExpiredToken",
				"The provided token has expired.")
		}, "session_token: the session has ended"}},
		{"may not", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.Endpoint = answers(403, "AccessDenied", "Access Denied") },
			"access_key: whoever asks may not do this in the bucket ledgers"}},
		{"profile", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.Profile, s.AccessKey, s.SecretKey = "caost", "", "" },
			"profile: there is no profile caost"}},
		{"no region", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.Endpoint = "" }, "region: nothing names one"}},
		{"nobody", struct {
			change func(s *s3.Settings)
			says   string
		}{func(s *s3.Settings) { s.AccessKey, s.SecretKey = "", "" }, "no credentials could be had"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			nothingKnown(t)
			s := settings(server.URL(), "")
			c.c.change(&s)
			began := time.Now()
			err := open(t, s).PutIfAbsent(context.Background(), "a/log/0000000001", []byte("x"))
			require.ErrorContains(t, err, c.c.says)
			require.NotContains(t, err.Error(), servertest.SecretKey)
			require.NotContains(t, err.Error(), "not-this-one")
			require.NotContains(t, err.Error(), "\n")
			require.Less(t, time.Since(began), 20*time.Second)
			t.Log(err)
		})
	}
}
