// Package s3 is a store in a bucket of a server that speaks the S3 protocol and
// knows conditional writes. A key is taken by a `PUT` with `If-None-Match: *`.
// It speaks HTTP itself, without a client library: decision 015 says why.
//
// An object's first byte says what follows: its body (K), or nothing, because
// it was blanked (B).
package s3

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"path"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	v4 "github.com/aws/aws-sdk-go-v2/aws/signer/v4"

	"kasbah/store"
	"kasbah/transport"
)

// Settings say where the bucket is.
type Settings struct {
	Endpoint             string // the server's URL
	Bucket, Prefix       string // the prefix is a folder in it, without slashes at its ends
	Region               string // us-east-1 when empty, which servers without regions take
	AccessKey, SecretKey string
	SessionToken         string
	CA                   string // PEM file of the authorities that are trusted, instead of the system's
}

const (
	whole   = 'K'
	blanked = 'B'
)

// answerTime bounds one request.
const answerTime = 60 * time.Second

// Store keeps objects in a bucket.
type Store struct {
	s      Settings
	base   *url.URL // of the bucket
	http   *http.Client
	signer *v4.Signer

	mu     sync.Mutex
	probed bool // the server heeds conditions
}

var _ store.Store = (*Store)(nil)

// Open names a bucket. Nothing is connected before the first use.
func Open(s Settings) (*Store, error) {
	u, err := url.Parse(s.Endpoint)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil:
		return nil, errors.New("it needs an endpoint: the URL of a server, such as https://127.0.0.1:9000")
	case s.Bucket == "" || strings.Contains(s.Bucket, "/"):
		return nil, errors.New("it needs a bucket")
	case s.AccessKey == "" || s.SecretKey == "":
		return nil, errors.New("it needs access_key and secret_key")
	}
	if s.Prefix != "" && store.CheckKey(s.Prefix) != nil {
		return nil, fmt.Errorf("prefix is %q, and must be a folder such as team/ledger", s.Prefix)
	}
	if s.Region == "" {
		s.Region = "us-east-1"
	}
	t, err := transport.New(transport.Options{CA: s.CA})
	if err != nil {
		return nil, err
	}
	return &Store{
		s: s, base: u.JoinPath(s.Bucket), http: &http.Client{Transport: t},
		signer: v4.NewSigner(func(o *v4.SignerOptions) { o.DisableURIPathEscaping = true }),
	}, nil
}

func (s *Store) object(key string) string { return path.Join(s.s.Prefix, key) }

// answer is a reply that was read to its end.
type answer struct {
	status int
	body   []byte
}

// do signs a request (Signature Version 4) and sends it once.
func (s *Store) do(ctx context.Context, method, object string, query url.Values, body []byte, header map[string]string) (answer, error) {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	u := *s.base
	if object != "" {
		u = *s.base.JoinPath(object)
	}
	u.RawQuery = strings.ReplaceAll(query.Encode(), "+", "%20")
	req, err := http.NewRequestWithContext(ctx, method, u.String(), bytes.NewReader(body))
	if err != nil {
		return answer{}, err
	}
	req.GetBody = nil // nothing is sent twice behind our back
	for k, v := range header {
		req.Header.Set(k, v)
	}
	sum := sha256.Sum256(body)
	digest := hex.EncodeToString(sum[:])
	req.Header.Set("X-Amz-Content-Sha256", digest)
	who := aws.Credentials{AccessKeyID: s.s.AccessKey, SecretAccessKey: s.s.SecretKey, SessionToken: s.s.SessionToken}
	if err := s.signer.SignHTTP(ctx, who, req, digest, "s3", s.s.Region, time.Now()); err != nil {
		return answer{}, err
	}
	r, err := s.http.Do(req)
	if err != nil {
		return answer{}, fmt.Errorf("the S3 server cannot be reached: %w", err)
	}
	defer r.Body.Close()
	reply, err := io.ReadAll(r.Body)
	return answer{r.StatusCode, reply}, err
}

// failed is the error of an answer that is none of those expected.
func (a answer) failed(what string) error {
	var no struct {
		Code    string
		Message string
	}
	if xml.Unmarshal(a.body, &no) == nil && no.Code != "" {
		return fmt.Errorf("%s: %s (%s)", what, strings.TrimSuffix(no.Message, "."), no.Code)
	}
	return fmt.Errorf("%s: the server answers %d %s", what, a.status, http.StatusText(a.status))
}

// PutIfAbsent writes an object unless there is one. Another put of the same
// key at the same moment may get it a refusal to decide (409): its outcome is
// then unknown, and it is to be repeated.
func (s *Store) PutIfAbsent(ctx context.Context, key string, body []byte) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	if err := s.probe(ctx); err != nil {
		return err
	}
	a, err := s.putIf(ctx, s.object(key), append([]byte{whole}, body...))
	switch {
	case err != nil:
		return err
	case a.status == http.StatusOK:
		return nil
	case a.status == http.StatusPreconditionFailed:
		return store.ErrExists
	}
	return a.failed("writing " + key)
}

func (s *Store) putIf(ctx context.Context, object string, body []byte) (answer, error) {
	return s.do(ctx, http.MethodPut, object, nil, body, map[string]string{"If-None-Match": "*", "Content-Type": "application/octet-stream"})
}

// probe writes a key twice, once in the life of the store: a server that lets
// the second one pass does not heed the condition, and two people could both
// believe that they hold a lock.
func (s *Store) probe(ctx context.Context) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.probed {
		return nil
	}
	object := s.object(".probe-" + rand.Text())
	first, err := s.putIf(ctx, object, []byte("probe"))
	if err != nil {
		return err
	}
	if first.status != http.StatusOK {
		return first.failed("writing to the bucket " + s.s.Bucket)
	}
	second, err := s.putIf(ctx, object, []byte("probe"))
	if err != nil {
		return err
	}
	if _, err := s.do(ctx, http.MethodDelete, object, nil, nil, nil); err != nil {
		return err
	}
	if second.status == http.StatusOK {
		return fmt.Errorf("the server at %s ignores conditional writes (If-None-Match), so two people could hold one lock: nothing is written there", s.s.Endpoint)
	}
	if second.status != http.StatusPreconditionFailed {
		return second.failed("a conditional write")
	}
	s.probed = true
	return nil
}

// Get reads an object.
func (s *Store) Get(ctx context.Context, key string) ([]byte, error) {
	if err := store.CheckKey(key); err != nil {
		return nil, err
	}
	a, err := s.do(ctx, http.MethodGet, s.object(key), nil, nil, nil)
	switch {
	case err != nil:
		return nil, err
	case a.status == http.StatusNotFound && !a.noBucket():
		return nil, store.ErrNotFound
	case a.status != http.StatusOK:
		return nil, a.failed("reading " + key)
	case len(a.body) == 0 || a.body[0] != whole && a.body[0] != blanked:
		return nil, fmt.Errorf("what the bucket %s holds under %s is no object of a store", s.s.Bucket, s.object(key))
	case a.body[0] == blanked:
		return nil, store.ErrBlank
	}
	return a.body[1:], nil
}

func (a answer) noBucket() bool { return bytes.Contains(a.body, []byte("NoSuchBucket")) }

// page is how many keys are read at once.
const page = 1000

// List reads the keys a page at a time; S3 orders them by bytes.
func (s *Store) List(ctx context.Context, prefix, after string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		folder := ""
		if s.s.Prefix != "" {
			folder = s.s.Prefix + "/"
		}
		query := url.Values{"list-type": {"2"}, "prefix": {folder + prefix}, "max-keys": {strconv.Itoa(page)}}
		if after != "" {
			query.Set("start-after", folder+after)
		}
		for {
			a, err := s.do(ctx, http.MethodGet, "", query, nil, nil)
			if err == nil && a.status != http.StatusOK {
				err = a.failed("listing the bucket " + s.s.Bucket)
			}
			var list struct {
				Contents []struct {
					Key string
				}
				IsTruncated           bool
				NextContinuationToken string
			}
			if err == nil {
				err = xml.Unmarshal(a.body, &list)
			}
			if err != nil {
				yield("", err)
				return
			}
			for _, c := range list.Contents {
				key := strings.TrimPrefix(c.Key, folder)
				if strings.HasPrefix(key, ".") { // a probe
					continue
				}
				if !yield(key, nil) {
					return
				}
			}
			if !list.IsTruncated || list.NextContinuationToken == "" {
				return
			}
			query.Del("start-after")
			query.Set("continuation-token", list.NextContinuationToken)
		}
	}
}

// Blank writes a mark over the object.
func (s *Store) Blank(ctx context.Context, key string) error {
	if _, err := s.Get(ctx, key); errors.Is(err, store.ErrBlank) {
		return nil
	} else if err != nil {
		return err
	}
	a, err := s.do(ctx, http.MethodPut, s.object(key), nil, []byte{blanked}, nil)
	if err == nil && a.status != http.StatusOK {
		err = a.failed("blanking " + key)
	}
	return err
}

// Delete deletes the object.
func (s *Store) Delete(ctx context.Context, key string) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	a, err := s.do(ctx, http.MethodDelete, s.object(key), nil, nil, nil)
	if err == nil && a.status != http.StatusNoContent && a.status != http.StatusOK && a.status != http.StatusNotFound {
		err = a.failed("deleting " + key)
	}
	return err
}

// Close ends idle connections.
func (s *Store) Close() error {
	s.http.CloseIdleConnections()
	return nil
}
