package openapi

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"

	"kasbah/core/driver"
)

// Credential gives something that proves who asks. again says that the API has
// refused what it gave before, so that it is to be fetched again.
type Credential func(ctx context.Context, again bool) (string, error)

// Auth is how requests say who asks. Any of them may be left out.
type Auth struct {
	Bearer   Credential            // a token (RFC 6750)
	User     string                // with a password (RFC 7617)
	Password Credential            // of the user
	Headers  map[string]Credential // headers of the API's own, by name
	OAuth    *OAuth                // a token that another server gives out (RFC 6749, 4.4)
	Setting  string                // what the settings call it, where that is none of these words
}

// none reports whether requests say nothing about who asks.
func (a Auth) none() bool {
	return a.Bearer == nil && a.Password == nil && a.OAuth == nil && len(a.Headers) == 0
}

// refused says what to look at when the API does not believe who asks.
func (a Auth) refused() string {
	names := []string{a.Setting}
	if a.Setting == "" {
		names = nil
		for name, given := range map[string]bool{"bearer": a.Bearer != nil, "user with password": a.Password != nil,
			"oauth": a.OAuth != nil} {
			if given || a.none() {
				names = append(names, name)
			}
		}
		for name := range a.Headers {
			names = append(names, "headers."+name)
		}
		if a.none() {
			names = append(names, "headers")
		}
		slices.Sort(names)
	}
	if a.none() {
		return "the driver's settings give no credentials (" + strings.Join(names, ", ") + ")"
	}
	return "it was asked with " + strings.Join(names, " and ") + " of the driver's settings"
}

// OAuth are the settings of the client credentials grant.
type OAuth struct {
	URL    string // of the token endpoint
	Client string
	Secret Credential
	Scopes []string
}

// authorizer puts credentials on requests, and keeps what was fetched.
type authorizer struct {
	auth Auth
	http *http.Client // for the token endpoint

	mu      sync.Mutex
	headers http.Header // what goes on each request
	until   time.Time   // the headers are good; zero for as long as nobody refuses them
}

// sign puts credentials on a request. again says that those of before were
// refused.
func (z *authorizer) sign(ctx context.Context, r *http.Request, again bool) error {
	z.mu.Lock()
	defer z.mu.Unlock()
	if z.headers == nil || again || !z.until.IsZero() && time.Now().After(z.until) {
		if err := z.fetch(ctx, again); err != nil {
			return driver.Refuse("no credential for the cloud: %v", err)
		}
	}
	for name, values := range z.headers {
		r.Header[name] = values
	}
	return nil
}

func (z *authorizer) fetch(ctx context.Context, again bool) error {
	h := http.Header{}
	z.until = time.Time{}
	if c := z.auth.Bearer; c != nil {
		token, err := c(ctx, again)
		if err != nil {
			return err
		}
		h.Set("Authorization", "Bearer "+token)
	}
	if c := z.auth.Password; c != nil {
		password, err := c(ctx, again)
		if err != nil {
			return err
		}
		h.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(z.auth.User+":"+password)))
	}
	if o := z.auth.OAuth; o != nil {
		secret, err := o.Secret(ctx, again)
		if err != nil {
			return err
		}
		config := clientcredentials.Config{ClientID: o.Client, ClientSecret: secret, TokenURL: o.URL, Scopes: o.Scopes}
		token, err := config.Token(context.WithValue(ctx, oauth2.HTTPClient, z.http))
		if err != nil {
			if r, ok := err.(*oauth2.RetrieveError); ok { // its text would quote the answer
				return fmt.Errorf("%s gives no token: %s %s", o.URL, r.Response.Status, r.ErrorCode)
			}
			return fmt.Errorf("%s gives no token: %w", o.URL, err)
		}
		h.Set("Authorization", token.Type()+" "+token.AccessToken)
		if !token.Expiry.IsZero() {
			z.until = token.Expiry.Add(-10 * time.Second)
		}
	}
	for name, c := range z.auth.Headers {
		is, err := c(ctx, again)
		if err != nil {
			return err
		}
		h.Set(name, is)
	}
	z.headers = h
	return nil
}
