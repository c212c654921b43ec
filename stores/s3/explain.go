package s3

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"strings"

	"github.com/aws/aws-sdk-go-v2/config"
	"github.com/aws/smithy-go"
	smithyhttp "github.com/aws/smithy-go/transport/http"
)

// statusOf is the HTTP status that a request was refused with; 0 where there is none.
func statusOf(err error) int {
	var r *smithyhttp.ResponseError
	if errors.As(err, &r) {
		return r.HTTPStatusCode()
	}
	return 0
}

// codeOf is the S3 protocol's name of an error; "" where it has none.
func codeOf(err error) string {
	var a smithy.APIError
	if errors.As(err, &a) {
		return a.ErrorCode()
	}
	return ""
}

// at is where the bucket is, for people.
func (s *Store) at() string { return cmp.Or(s.s.Endpoint, "Amazon S3") }

// settingOf names, for what a server or the client refuses, the setting that is wrong, and
// says how.
func (s *Store) settingOf(err error) (setting, says string) {
	var profile config.SharedConfigProfileNotExistError
	var dns *net.DNSError
	var op *net.OpError
	text := err.Error()
	switch codeOf(err) {
	case "NoSuchBucket":
		return "bucket", fmt.Sprintf("there is no bucket %s at %s", s.s.Bucket, s.at())
	case "InvalidBucketName":
		return "bucket", fmt.Sprintf("%q is not a name of a bucket", s.s.Bucket)
	case "InvalidAccessKeyId", "XAdminUserNotFound":
		return s.who("access_key"), fmt.Sprintf("%s does not know the access key", s.at())
	case "SignatureDoesNotMatch":
		return s.who("secret_key"), fmt.Sprintf("%s finds that the secret key does not fit the access key", s.at())
	case "ExpiredToken", "InvalidToken", "TokenRefreshRequired":
		return s.who("session_token"), "the session has ended or is not valid"
	case "RequestTimeTooSkewed":
		return "the clock of this machine", fmt.Sprintf("it differs too much from that of %s", s.at())
	case "PermanentRedirect", "AuthorizationHeaderMalformed", "IllegalLocationConstraintException", "TemporaryRedirect",
		"MovedPermanently":
		return "region", fmt.Sprintf("the bucket %s is in another region", s.s.Bucket)
	case "AccessDenied", "AllAccessDisabled", "AccountProblem":
		return s.who("access_key"), fmt.Sprintf("whoever asks may not do this in the bucket %s", s.s.Bucket)
	}
	switch {
	case errors.As(err, &profile):
		return cmp.Or(map[bool]string{true: "profile"}[s.s.Profile != ""], "AWS_PROFILE"),
			fmt.Sprintf("there is no profile %s in the AWS settings of this machine", profile.Profile)
	case strings.Contains(text, "x509:"), strings.Contains(text, "tls: "):
		return "ca", fmt.Sprintf("the certificate of %s is not trusted", s.at())
	case strings.Contains(text, "failed to refresh cached credentials"), strings.Contains(text, "get credentials"),
		strings.Contains(text, "get identity"):
		return "access_key and secret_key, or profile", "no credentials could be had: neither there, nor in the " +
			"environment (AWS_ACCESS_KEY_ID, AWS_PROFILE, …), nor from a role of this machine"
	case errors.As(err, &dns):
		return "endpoint", fmt.Sprintf("no host is called %s", dns.Name)
	case errors.As(err, &op):
		return "endpoint", s.at() + " cannot be reached"
	case statusOf(err) == http.StatusMovedPermanently, statusOf(err) == http.StatusTemporaryRedirect,
		statusOf(err) == http.StatusPermanentRedirect:
		return "region", fmt.Sprintf("the bucket %s is in another region", s.s.Bucket)
	}
	return "", ""
}

// who names the setting by which this machine says who it is.
func (s *Store) who(static string) string {
	switch {
	case s.s.AccessKey != "":
		return static
	case s.s.Profile != "":
		return "profile"
	}
	return "the AWS credentials of this machine"
}

// explain says in our words what went wrong, and names the setting where that is clear. What
// the error is stays.
func (s *Store) explain(what string, err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	said := err.Error()
	var a smithy.APIError
	var sent *url.Error
	switch {
	case errors.As(err, &a):
		said = strings.TrimSuffix(cmp.Or(a.ErrorMessage(), http.StatusText(statusOf(err)), "it says nothing else"),
			".") + " (" + a.ErrorCode() + ")"
	case errors.As(err, &sent):
		said = sent.Err.Error()
	default:
		var op *smithy.OperationError
		if errors.As(err, &op) {
			said = op.Err.Error()
		}
	}
	if setting, says := s.settingOf(err); setting != "" {
		return &failure{fmt.Sprintf("%s: %s: %s: %s", what, setting, says, said), err}
	}
	return &failure{what + ": " + said, err}
}

// failure is an error of the library, in other words.
type failure struct {
	says string
	err  error
}

func (f *failure) Error() string { return f.says }
func (f *failure) Unwrap() error { return f.err }
