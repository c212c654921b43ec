package alert

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"kasbah/core/nearest"
	"kasbah/core/problem"
	"kasbah/core/value"
)

// TokensFormat is that of a TokenList as JSON.
const TokensFormat = "kasbah.watch-tokens/1"

// Rights are what a token of the watcher's page may do: each what those before it may as well.
var Rights = []string{"read", "acknowledge"}

// Token opens the watcher's page to a person. The journal keeps a digest of it, so every watcher knows it.
type Token struct {
	Name   string    `json:"name"`
	Rights string    `json:"rights"` // one of Rights
	Digest string    `json:"digest,omitempty"`
	Made   time.Time `json:"made,omitzero"`
	By     string    `json:"by,omitempty"`      // who made it
	Token  string    `json:"token,omitempty"`   // shown once, when it is made; never in a journal
	Away   bool      `json:"revoked,omitempty"` // in a line that takes it away
}

// TokenList is the JSON form of the tokens of an environment.
type TokenList struct {
	Format string  `json:"format"`
	Env    string  `json:"env"`
	Tokens []Token `json:"tokens"`
}

// NewToken makes a token of 130 random bits. A wrong name or right is a *problem.UsageError.
func NewToken(name, rights, by string) (Token, error) {
	if name == "" || len(name) > 63 || strings.ContainsFunc(name, func(r rune) bool { return r <= ' ' || r == 0x7f }) {
		return Token{}, problem.Usage("-new must be a name of 63 letters at most, without spaces, not %q", name)
	}
	if !slices.Contains(Rights, rights) {
		return Token{}, &problem.UsageError{Message: fmt.Sprintf("-rights must be %s, not %q", strings.Join(Rights, " or "), rights),
			Hint: nearest.Hint(rights, Rights)}
	}
	t := Token{Name: name, Rights: rights, By: by, Token: "watch-" + rand.Text()}
	t.Digest = digest(t.Token)
	return t, nil
}

func digest(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// May reports whether a token has a right; none has any for nil.
func (t *Token) May(right string) bool {
	return t != nil && slices.Index(Rights, t.Rights) >= slices.Index(Rights, right)
}

// Token is the token that was given; nil for one that is not known.
func (s *State) Token(given string) (known *Token) {
	is := []byte(digest(given))
	for name, t := range s.Tokens {
		if subtle.ConstantTimeCompare([]byte(t.Digest), is) == 1 {
			t.Name, known = name, &t
		}
	}
	return known
}

// TokenList lists the tokens by their names, without what could be used.
func (s *State) TokenList(env string) *TokenList {
	out := &TokenList{Format: TokensFormat, Env: env, Tokens: []Token{}}
	for _, name := range value.Keys(s.Tokens) {
		t := s.Tokens[name]
		t.Digest = ""
		out.Tokens = append(out.Tokens, t)
	}
	return out
}

// token folds a line that makes a token or takes one away.
func (s *State) token(at time.Time, t *Token) {
	delete(s.Tokens, t.Name)
	if t.Away || !slices.Contains(Rights, t.Rights) || len(t.Digest) != hex.EncodedLen(sha256.Size) {
		return
	}
	if s.Tokens == nil {
		s.Tokens = map[string]Token{}
	}
	kept := *t
	kept.Made, kept.Token = at, ""
	s.Tokens[t.Name] = kept
}
