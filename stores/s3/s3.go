// Package s3 is a store in a bucket of Amazon S3, or of a server that speaks its protocol and
// knows conditional writes, through the official client. A key is taken by a `PUT` with
// `If-None-Match: *`. No write is sent again behind our back.
//
// An object's first byte says what follows: its body (K), or nothing, because
// it was blanked (B).
package s3

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"iter"
	"net/http"
	"net/url"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/aws/aws-sdk-go-v2/aws"
	"github.com/aws/aws-sdk-go-v2/aws/retry"
	"github.com/aws/aws-sdk-go-v2/config"
	"github.com/aws/aws-sdk-go-v2/credentials"
	"github.com/aws/aws-sdk-go-v2/service/s3"
	"github.com/aws/smithy-go/logging"

	"kasbah/core/store"
	"kasbah/transport"
)

// Settings say where the bucket is and who asks. Only Bucket is necessary: what is empty
// is as the AWS tools of this machine have it.
type Settings struct {
	Bucket, Prefix       string // the prefix is a folder in it, without slashes at its ends
	Endpoint             string // the URL of a server that is not Amazon's
	Region               string // with an endpoint us-east-1 when nothing names one, which servers without regions take
	Profile              string // of ~/.aws/config
	AccessKey, SecretKey string // static credentials
	SessionToken         string
	// the bucket is in the path and not in the host's name; nil is where there is an endpoint
	PathStyle *bool
	CA        string // PEM file of the authorities that are trusted, instead of the system's
}

const (
	whole   = 'K'
	blanked = 'B'
)

const (
	// answerTime bounds one request.
	answerTime = 60 * time.Second
	// readTries is how often a read is sent.
	readTries = 3
)

// Store keeps objects in a bucket.
type Store struct {
	s    Settings
	http *http.Client

	mu     sync.Mutex
	made   *s3.Client // at the first use
	probed bool       // the server heeds conditions
}

var _ store.Store = (*Store)(nil)

// Open names a bucket. Nothing is read or connected before the first use.
func Open(s Settings) (*Store, error) {
	if s.Endpoint != "" {
		if u, err := url.Parse(s.Endpoint); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" ||
			u.User != nil {
			return nil, errors.New("endpoint must be the URL of a server, such as https://127.0.0.1:9000")
		}
	}
	switch {
	case s.Bucket == "" || strings.Contains(s.Bucket, "/"):
		return nil, errors.New("it needs bucket, the name of a bucket")
	case (s.AccessKey == "") != (s.SecretKey == ""):
		return nil, errors.New("access_key and secret_key go together")
	case s.SessionToken != "" && s.AccessKey == "":
		return nil, errors.New("session_token goes with access_key and secret_key")
	case s.Profile != "" && s.AccessKey != "":
		return nil, errors.New("it takes access_key with secret_key, or profile")
	case s.Prefix != "" && store.CheckKey(s.Prefix) != nil:
		return nil, fmt.Errorf("prefix is %q, and must be a folder such as team/ledger", s.Prefix)
	}
	t, err := transport.New(transport.Options{CA: s.CA})
	if err != nil {
		return nil, err
	}
	return &Store{s: s, http: &http.Client{Transport: t, CheckRedirect: func(*http.Request,
		[]*http.Request) error {
		return http.ErrUseLastResponse
	}}}, nil
}

// client is made at the first use, with credentials and region from where the official
// tools look for them: the environment, profiles, single sign-on, roles, web identities,
// containers, instances.
func (s *Store) client(ctx context.Context) (*s3.Client, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.made != nil {
		return s.made, nil
	}
	opts := []func(*config.LoadOptions) error{config.WithLogger(logging.Nop{})}
	if s.s.Region != "" {
		opts = append(opts, config.WithRegion(s.s.Region))
	}
	if s.s.Profile != "" {
		opts = append(opts, config.WithSharedConfigProfile(s.s.Profile))
	}
	if s.s.AccessKey != "" {
		opts = append(opts, config.WithCredentialsProvider(credentials.NewStaticCredentialsProvider(s.s.AccessKey,
			s.s.SecretKey, s.s.SessionToken)))
	}
	c, err := config.LoadDefaultConfig(ctx, opts...)
	if err != nil {
		return nil, s.explain("reading the AWS settings of this machine", err)
	}
	endpoint := cmp.Or(s.s.Endpoint, aws.ToString(c.BaseEndpoint))
	if c.Region == "" {
		if endpoint == "" {
			return nil, errors.New("region: nothing names one; [ledger] region, AWS_REGION or a profile does")
		}
		c.Region = "us-east-1"
	}
	s.made = s3.NewFromConfig(c, func(o *s3.Options) {
		o.HTTPClient, o.Retryer = s.http, aws.NopRetryer{}
		o.UsePathStyle = endpoint != ""
		if s.s.PathStyle != nil {
			o.UsePathStyle = *s.s.PathStyle
		}
		if s.s.Endpoint != "" {
			o.BaseEndpoint = aws.String(s.s.Endpoint)
		}
		// other servers know no trailing checksums; the signature covers the body
		o.RequestChecksumCalculation, o.ResponseChecksumValidation = aws.RequestChecksumCalculationWhenRequired,
			aws.ResponseChecksumValidationWhenRequired
		o.DisableLogOutputChecksumValidationSkipped = true
	})
	return s.made, nil
}

func (s *Store) object(key string) *string { return aws.String(path.Join(s.s.Prefix, key)) }

// do makes one request.
func (s *Store) do(ctx context.Context, what string, request func(context.Context, *s3.Client) error) error {
	c, err := s.client(ctx)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	return s.explain(what, request(ctx, c))
}

// reads lets a request be sent again: it changes nothing.
func reads(o *s3.Options) {
	o.Retryer = retry.NewStandard(func(o *retry.StandardOptions) {
		o.MaxAttempts, o.MaxBackoff = readTries,
			2*time.Second
	})
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
	err := s.putIf(ctx, "writing "+key, s.object(key), append([]byte{whole}, body...))
	if statusOf(err) == http.StatusPreconditionFailed {
		return store.ErrExists
	}
	return err
}

func (s *Store) putIf(ctx context.Context, what string, object *string, body []byte) error {
	return s.do(ctx, what, func(ctx context.Context, c *s3.Client) error {
		_, err := c.PutObject(ctx, &s3.PutObjectInput{Bucket: &s.s.Bucket, Key: object, IfNoneMatch: aws.String("*"),
			ContentType: aws.String("application/octet-stream"), Body: bytes.NewReader(body)})
		return err
	})
}

// probe writes a key twice, once in the life of the store: a server that lets
// the second one pass does not heed the condition, and two people could both
// believe that they hold a lock.
func (s *Store) probe(ctx context.Context) error {
	s.mu.Lock()
	probed := s.probed
	s.mu.Unlock()
	if probed {
		return nil
	}
	object := s.object(".probe-" + rand.Text())
	if err := s.putIf(ctx, "writing to the bucket "+s.s.Bucket, object, []byte("probe")); err != nil {
		return err
	}
	second := s.putIf(ctx, "a conditional write", object, []byte("probe"))
	if err := s.remove(ctx, "taking the probe away", object); err != nil {
		return err
	}
	switch {
	case second == nil:
		return fmt.Errorf("endpoint: the server at %s ignores conditional writes (If-None-Match), so two people "+
			"could hold one lock: nothing is written there", s.at())
	case statusOf(second) != http.StatusPreconditionFailed:
		return second
	}
	s.mu.Lock()
	s.probed = true
	s.mu.Unlock()
	return nil
}

func (s *Store) remove(ctx context.Context, what string, object *string) error {
	return s.do(ctx, what, func(ctx context.Context, c *s3.Client) error {
		_, err := c.DeleteObject(ctx, &s3.DeleteObjectInput{Bucket: &s.s.Bucket, Key: object})
		return err
	})
}

// Get reads an object.
func (s *Store) Get(ctx context.Context, key string) (body []byte, err error) {
	if err := store.CheckKey(key); err != nil {
		return nil, err
	}
	err = s.do(ctx, "reading "+key, func(ctx context.Context, c *s3.Client) error {
		r, err := c.GetObject(ctx, &s3.GetObjectInput{Bucket: &s.s.Bucket, Key: s.object(key)}, reads)
		if err != nil {
			return err
		}
		defer r.Body.Close()
		body, err = io.ReadAll(r.Body)
		return err
	})
	switch {
	case codeOf(err) == "NoSuchKey":
		return nil, store.ErrNotFound
	case err != nil:
		return nil, err
	case len(body) == 0 || body[0] != whole && body[0] != blanked:
		return nil, fmt.Errorf("what the bucket %s holds under %s is not an object of a store", s.s.Bucket,
			*s.object(key))
	case body[0] == blanked:
		return nil, store.ErrBlank
	}
	return body[1:], nil
}

// page is how many keys are read at once.
const page = 1000

// List reads the keys a page at a time; S3 orders them by bytes.
func (s *Store) List(ctx context.Context, prefix, after string) iter.Seq2[string, error] {
	return func(yield func(string, error) bool) {
		folder := ""
		if s.s.Prefix != "" {
			folder = s.s.Prefix + "/"
		}
		in := &s3.ListObjectsV2Input{Bucket: &s.s.Bucket, Prefix: aws.String(folder + prefix), MaxKeys: aws.Int32(page)}
		if after != "" {
			in.StartAfter = aws.String(folder + after)
		}
		for {
			var list *s3.ListObjectsV2Output
			err := s.do(ctx, "listing the bucket "+s.s.Bucket, func(ctx context.Context, c *s3.Client) (err error) {
				list, err = c.ListObjectsV2(ctx, in, reads)
				return err
			})
			if err != nil {
				yield("", err)
				return
			}
			for _, c := range list.Contents {
				key := strings.TrimPrefix(aws.ToString(c.Key), folder)
				if strings.HasPrefix(key, ".") { // a probe
					continue
				}
				if !yield(key, nil) {
					return
				}
			}
			if !aws.ToBool(list.IsTruncated) || aws.ToString(list.NextContinuationToken) == "" {
				return
			}
			in.StartAfter, in.ContinuationToken = nil, list.NextContinuationToken
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
	return s.do(ctx, "blanking "+key, func(ctx context.Context, c *s3.Client) error {
		_, err := c.PutObject(ctx, &s3.PutObjectInput{Bucket: &s.s.Bucket, Key: s.object(key),
			Body: bytes.NewReader([]byte{blanked})})
		return err
	})
}

// Delete deletes the object.
func (s *Store) Delete(ctx context.Context, key string) error {
	if err := store.CheckKey(key); err != nil {
		return err
	}
	err := s.remove(ctx, "deleting "+key, s.object(key))
	if codeOf(err) == "NoSuchKey" {
		return nil
	}
	return err
}

// Close ends idle connections.
func (s *Store) Close() error {
	s.http.CloseIdleConnections()
	return nil
}
