package page

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"kasbah/core/alert"
	"kasbah/transport"
)

// Who reads on this machine needs no token; a page of another origin changes nothing, and a foreign name that
// was pointed here reads nothing. A token is 130 random bits, and wrong ones are few.

const cookieName = "kasbah-watch"

// access is what a request may do.
type access struct {
	local  bool                    // it comes from this machine
	tokens map[string]*alert.Token // that it shows, by environment
}

// may reports whether a request has a right in an environment.
func (a *access) may(env, right string) bool {
	return right == "read" && a.local || a.tokens[env].May(right)
}

// entered reports whether a request shows a token that is known.
func (a *access) entered() bool { return len(a.tokens) > 0 }

type accessKey struct{}

func accessOf(r *http.Request) *access {
	a, _ := r.Context().Value(accessKey{}).(*access)
	if a == nil {
		return &access{}
	}
	return a
}

// guard lets requests pass that are meant for this server, with what they may do.
func (s *Server) guard(next http.Handler) http.Handler {
	origin := http.NewCrossOriginProtection()
	origin.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.refuse(w, r, http.StatusForbidden, "A page of another origin asks for this, and may not change anything here.")
	}))
	same := origin.Handler(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'none'; style-src 'self'; img-src 'self'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
		h.Set("Cache-Control", "no-store")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if !s.leadsHere(r.Host) {
			s.refuse(w, r, http.StatusMisdirectedRequest, "This is not the watcher's name; ask it by its address, or by the name in its certificate.")
			return
		}
		a := &access{local: isLocal(r)}
		given, bearer := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if c, err := r.Cookie(cookieName); err == nil && !bearer {
			given = c.Value
		}
		if given != "" {
			tokens, ok := s.tokens(r, given)
			if !ok {
				tooOften(w)
				s.refuse(w, r, http.StatusTooManyRequests, "Too many wrong tokens came from here. Wait a minute.")
				return
			}
			if a.tokens = tokens; tokens == nil && !bearer {
				http.SetCookie(w, s.cookie(r, "")) // it was revoked
			}
			if tokens == nil && bearer {
				w.Header().Set("WWW-Authenticate", "Bearer")
				s.refuse(w, r, http.StatusUnauthorized, "The watcher knows no such token.")
				return
			}
		}
		same.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), accessKey{}, a)))
	})
}

func tooOften(w http.ResponseWriter) { w.Header().Set("Retry-After", "60") }

func (s *Server) cookie(r *http.Request, token string) *http.Cookie {
	c := &http.Cookie{Name: cookieName, Value: token, Path: "/", HttpOnly: true, Secure: r.TLS != nil, SameSite: http.SameSiteStrictMode}
	if token == "" {
		c.MaxAge = -1
	}
	return c
}

// leadsHere reports whether a request's host is this server.
func (s *Server) leadsHere(host string) bool {
	if transport.LeadsHere(host, s.hosts) {
		return true
	}
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	return s.leaf != nil && s.leaf.VerifyHostname(name) == nil
}

// isLocal reports whether a request comes from this machine, and not through a server that passes it on.
func isLocal(r *http.Request) bool {
	for _, passed := range []string{"Forwarded", "X-Forwarded-For", "X-Real-Ip", "Via"} {
		if r.Header.Get(passed) != "" {
			return false
		}
	}
	at, err := netip.ParseAddrPort(r.RemoteAddr)
	return err == nil && at.Addr().Unmap().IsLoopback()
}

// tokens finds a token that was given, by environment; none for one that is not known. It is not ok to
// ask after too many wrong ones.
func (s *Server) tokens(r *http.Request, given string) (found map[string]*alert.Token, ok bool) {
	from := s.guesses.of(r.RemoteAddr)
	now := time.Now()
	if from.TokensAt(now) < 1 || s.guesses.all.TokensAt(now) < 1 {
		return nil, false
	}
	for _, e := range s.board.Environments() {
		if e.State == nil {
			continue
		}
		if t := e.State.Token(given); t != nil {
			if found == nil {
				found = map[string]*alert.Token{}
			}
			found[e.Name] = t
		}
	}
	if found == nil {
		from.AllowN(now, 1)
		s.guesses.all.AllowN(now, 1)
	}
	return found, true
}

// guesses bound how many wrong tokens may be tried: ten at once from one address and ten a minute, and a
// hundred from all.
type guesses struct {
	mu  sync.Mutex
	by  map[netip.Prefix]*rate.Limiter
	all *rate.Limiter
}

const keptAddresses = 10_000

func newGuesses() *guesses {
	return &guesses{by: map[netip.Prefix]*rate.Limiter{}, all: rate.NewLimiter(rate.Every(600*time.Millisecond), 100)}
}

// of is the limiter of an address; of its network for IPv6, which gives one person many.
func (g *guesses) of(remote string) *rate.Limiter {
	at, _ := netip.ParseAddrPort(remote) // the zero address is one as well
	addr, bits := at.Addr().Unmap(), 32
	if addr.Is6() {
		bits = 64
	}
	p, _ := addr.Prefix(bits)
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.by[p] == nil {
		if len(g.by) >= keptAddresses {
			clear(g.by) // the bound for all holds
		}
		g.by[p] = rate.NewLimiter(rate.Every(6*time.Second), 10)
	}
	return g.by[p]
}
