package medina

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"fmt"
	"kasbah/transport"
	"net/http"
	"time"
)

// A Medina listens where a browser of the same person can reach it, and any page in that
// browser can make it ask. So a page of another origin changes nothing, a name that somebody
// has made lead here reads nothing, and one that is embedded answers its own program alone.

const (
	snapshotTime = 30 * time.Minute // for one that brings a snapshot
)

// bodyTime is for a request with its body; tests have less patience.
var bodyTime = time.Minute

// guarded lets requests pass that no foreign page can have made.
func (s *Server) guarded(next http.Handler) http.Handler {
	origin := http.NewCrossOriginProtection()
	origin.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		refuseWith(w, &refusal{status: http.StatusForbidden, title: "from elsewhere",
			detail: "a page of another origin asks for this, and may not change anything here"})
	}))
	same := origin.Handler(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case !transport.LeadsHere(r.Host, s.o.Hosts):
			refuseWith(w, &refusal{status: http.StatusMisdirectedRequest, title: "another host",
				detail: fmt.Sprintf("Medina is not %q; ask it by its address, or let -address name that host", r.Host)})
		case s.o.own != "" && subtle.ConstantTimeCompare([]byte(r.Header.Get("Authorization")),
			[]byte("Bearer "+s.o.own)) != 1:
			w.Header().Set("WWW-Authenticate", "Bearer")
			refuseWith(w, &refusal{status: http.StatusUnauthorized, title: "who are you?",
				detail: "this Medina is embedded in a program, and answers only that program; `kasbah medina serve` " +
					"answers every program"})
		default:
			same.ServeHTTP(w, r)
		}
	})
}

// own makes an embedded Medina one that answers this program alone.
func (s *Settings) own() {
	if s.API != "embedded" || s.Options.own != "" {
		return
	}
	token := rand.Text()
	s.Options.own = token
	s.Token = func(context.Context, bool) (string, error) { return token, nil }
}
