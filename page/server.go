package page

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	_ "embed"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"maragu.dev/gomponents"

	"kasbah/core/alert"
	"kasbah/render"
	"kasbah/transport"
)

//go:embed page.css
var css []byte

//go:embed icon.svg
var icon []byte

// Options say where the page is served.
type Options struct {
	Address   string // host:port
	Cert, Key string // PEM files; "" for a certificate that signs itself, where one is needed
	Own       string // where that one is kept, without .crt
}

// Server serves the page of a board.
type Server struct {
	URL         string
	Certificate string       // that signs itself, and its place; "" for none
	Ended       <-chan error // tells once why serving has ended

	board   *Board
	meter   *Counters
	hosts   []string
	leaf    *x509.Certificate // nil without TLS
	guesses *guesses
	server  *http.Server
}

// bodyTime is for a request with its body.
const bodyTime = 30 * time.Second

// Listen serves a board: on a loopback address as it is, on any other one over TLS.
func Listen(b *Board, m *Counters, o Options) (*Server, error) {
	host, _, err := net.SplitHostPort(o.Address)
	if err != nil {
		return nil, fmt.Errorf("it cannot listen at %q: %w", o.Address, err)
	}
	s := &Server{board: b, meter: m, guesses: newGuesses()}
	if host != "" {
		s.hosts = []string{strings.ToLower(host)}
	}
	secure, err := s.secure(host, o)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", o.Address)
	if err != nil {
		return nil, fmt.Errorf("it cannot listen at %s: %w", o.Address, err)
	}
	s.server = transport.NewServer(s.routes(), bodyTime)
	s.server.WriteTimeout = time.Minute
	s.server.MaxHeaderBytes = 64 << 10
	s.URL = "http://" + l.Addr().String()
	if secure != nil {
		s.URL = "https://" + l.Addr().String()
		s.server.TLSConfig = secure
		l = tls.NewListener(l, secure)
	}
	ended := make(chan error, 1)
	s.Ended = ended
	go func() { ended <- s.server.Serve(l) }()
	return s, nil
}

// Close ends serving.
func (s *Server) Close() error { return transport.Shutdown(s.server) }

// secure is what secures the connections; nil for a loopback address without a certificate.
func (s *Server) secure(host string, o Options) (*tls.Config, error) {
	ip := net.ParseIP(host)
	local := host == "localhost" || ip != nil && ip.IsLoopback()
	var cert tls.Certificate
	var err error
	switch {
	case (o.Cert == "") != (o.Key == ""):
		return nil, fmt.Errorf("a certificate and its key go together")
	case o.Cert != "":
		cert, err = tls.LoadX509KeyPair(o.Cert, o.Key)
	case local:
		return nil, nil
	default:
		cert, s.Certificate, err = transport.OwnCertificate(o.Address, o.Own)
	}
	if err != nil {
		return nil, fmt.Errorf("its certificate: %w", err)
	}
	s.leaf = cert.Leaf
	return &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS12}, nil
}

func (s *Server) routes() http.Handler {
	r := chi.NewRouter()
	r.Use(s.guard, middleware.GetHead)
	r.Get("/page.css", file("text/css; charset=utf-8", append(slices.Clip(css), render.SVGStyle...)))
	r.Get("/icon.svg", file("image/svg+xml", icon))
	r.Get("/healthz", s.health)
	r.Get("/enter", s.enter)
	r.Post("/enter", s.enter)
	r.Post("/leave", s.leave)
	r.Group(func(r chi.Router) {
		r.Use(s.known)
		r.Get("/metrics", s.metrics)
		r.Get("/", s.home)
		r.Get("/alerts", s.alerts)
		r.Get("/alerts/{env}/{id}", s.alert)
		r.Post("/alerts/{env}/{id}", s.acknowledge)
		r.Get("/wards/{env}/{ward}", s.ward)
	})
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		s.refuse(w, r, http.StatusNotFound, "There is no such page.")
	})
	return r
}

func file(media string, body []byte) http.HandlerFunc {
	return func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", media)
		_, _ = w.Write(body) // who asked may be gone
	}
}

// known lets requests pass that may read something.
func (s *Server) known(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a := accessOf(r)
		readable := a.local || slices.ContainsFunc(s.board.Environments(), func(e *Environment) bool { return a.may(e.Name, "read") })
		switch {
		case readable:
			s.board.Refresh(r.Context())
			next.ServeHTTP(w, r)
		case r.URL.Path == "/metrics":
			w.Header().Set("WWW-Authenticate", "Bearer")
			s.refuse(w, r, http.StatusUnauthorized, "Metrics need a token: `kasbah watch tokens -new NAME -rights read` makes one.")
		default:
			http.Redirect(w, r, "/enter", http.StatusSeeOther)
		}
	})
}

// readable are the environments that a request may read.
func (s *Server) readable(r *http.Request) []*Environment {
	a := accessOf(r)
	return slices.DeleteFunc(s.board.Environments(), func(e *Environment) bool { return !a.may(e.Name, "read") })
}

// environment is the one that a request names, if it may read it; else the answer is given.
func (s *Server) environment(w http.ResponseWriter, r *http.Request) *Environment {
	name := chi.URLParam(r, "env")
	for _, e := range s.readable(r) {
		if e.Name == name {
			return e
		}
	}
	s.refuse(w, r, http.StatusNotFound, "No environment that is watched has this name.")
	return nil
}

// health says in one word whether the watching goes well, and to whom may read it, what does not.
func (s *Server) health(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	troubles := s.board.Troubles()
	if len(troubles) == 0 {
		fmt.Fprintln(w, "healthy")
		return
	}
	w.WriteHeader(http.StatusServiceUnavailable)
	fmt.Fprintln(w, "not healthy")
	if len(s.readable(r)) == len(s.board.Environments()) {
		fmt.Fprintln(w, strings.Join(troubles, "\n"))
	}
}

// maxForm is how much of a form is read.
const maxForm = 64 << 10

// enter takes a token and keeps it in a cookie that scripts cannot read.
func (s *Server) enter(w http.ResponseWriter, r *http.Request) {
	f := s.frame(r, "Enter")
	if r.Method == http.MethodPost {
		r.Body = http.MaxBytesReader(w, r.Body, maxForm)
		tokens, ok := s.tokens(r, strings.TrimSpace(r.PostFormValue("token")))
		switch {
		case !ok:
			tooOften(w)
			s.refuse(w, r, http.StatusTooManyRequests, "Too many wrong tokens came from here. Wait a minute.")
			return
		case tokens != nil:
			http.SetCookie(w, s.cookie(r, strings.TrimSpace(r.PostFormValue("token"))))
			http.Redirect(w, r, back(r.PostFormValue("back")), http.StatusSeeOther)
			return
		}
		f.problem = "The watcher knows no such token."
		s.show(w, http.StatusForbidden, f.enter(back(r.PostFormValue("back"))))
		return
	}
	s.show(w, http.StatusOK, f.enter(back(r.URL.Query().Get("back"))))
}

// back is a page of this server to go on to.
func back(path string) string {
	if strings.HasPrefix(path, "/") && !strings.HasPrefix(path, "//") && !strings.ContainsAny(path, "\\\r\n") {
		return path
	}
	return "/"
}

func (s *Server) leave(w http.ResponseWriter, r *http.Request) {
	http.SetCookie(w, s.cookie(r, ""))
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

func (s *Server) home(w http.ResponseWriter, r *http.Request) {
	s.show(w, http.StatusOK, s.frame(r, s.board.Estate).home(s.readable(r)))
}

func (s *Server) alerts(w http.ResponseWriter, r *http.Request) {
	s.show(w, http.StatusOK, s.frame(r, "Alerts").alerts(s.choose(r)))
}

func (s *Server) ward(w http.ResponseWriter, r *http.Request) {
	e := s.environment(w, r)
	if e == nil {
		return
	}
	name := chi.URLParam(r, "ward")
	if !slices.Contains(e.wards(), name) {
		s.refuse(w, r, http.StatusNotFound, "No ward that is watched in "+e.Name+" has this name.")
		return
	}
	f := s.frame(r, name+", "+e.Name)
	s.show(w, http.StatusOK, f.ward(e, name, f.drawing(r.Context(), e, name)))
}

// found is the alert that a request names; else the answer is given.
func (s *Server) found(w http.ResponseWriter, r *http.Request) (*Environment, *alert.Alert) {
	e := s.environment(w, r)
	if e == nil {
		return nil, nil
	}
	if e.State != nil && e.State.Alerts[chi.URLParam(r, "id")] != nil {
		return e, e.State.Alerts[chi.URLParam(r, "id")]
	}
	s.refuse(w, r, http.StatusNotFound, "No alert of "+e.Name+" has this id. Resolved ones are kept for 30 days.")
	return nil, nil
}

func (s *Server) alert(w http.ResponseWriter, r *http.Request) {
	if e, a := s.found(w, r); a != nil {
		s.show(w, http.StatusOK, s.frame(r, a.Finding.Subject()).alert(e, a, entry{}))
	}
}

// entry is what a person has typed into the form that acknowledges.
type entry struct{ why, until, wrong string }

// longestWhy is how long a reason may be, in letters.
const longestWhy = 500

// acknowledge takes the form of an alert.
func (s *Server) acknowledge(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, maxForm)
	e, a := s.found(w, r)
	if a == nil {
		return
	}
	f := s.frame(r, a.Finding.Subject())
	in := entry{why: strings.TrimSpace(r.PostFormValue("why")), until: strings.TrimSpace(r.PostFormValue("until"))}
	again := func(status int, wrong string) {
		in.wrong = wrong
		s.show(w, status, f.alert(e, a, in))
	}
	token := f.access.tokens[e.Name]
	day, err := time.Parse(time.DateOnly, in.until)
	switch {
	case !f.access.may(e.Name, "acknowledge"):
		again(http.StatusForbidden, "To acknowledge needs a token with that right.")
		return
	case a.Phase == alert.Resolved:
		again(http.StatusConflict, "It is resolved by now.")
		return
	case in.why == "" || len([]rune(in.why)) > longestWhy:
		again(http.StatusUnprocessableEntity, fmt.Sprintf("Say why, in %d letters at most.", longestWhy))
		return
	case in.until != "" && err != nil:
		again(http.StatusUnprocessableEntity, "The last day must be a date such as 2026-12-31.")
		return
	case in.until != "" && day.Format(time.DateOnly) < s.board.Now().Format(time.DateOnly):
		again(http.StatusUnprocessableEntity, "The last day is over.")
		return
	}
	now, err := e.Acknowledge(r.Context(), a.ID, alert.Ack{Who: token.Name, Why: in.why, Until: in.until})
	if err != nil {
		again(http.StatusBadGateway, "It could not be written down: "+err.Error())
		return
	}
	s.board.Seen(e.Name, now, nil)
	http.Redirect(w, r, "/alerts/"+e.Name+"/"+a.ID, http.StatusSeeOther)
}

// refuse answers with a page that says why.
func (s *Server) refuse(w http.ResponseWriter, r *http.Request, status int, why string) {
	f := s.frame(r, http.StatusText(status))
	f.problem = why
	s.show(w, status, f.page())
}

func (s *Server) show(w http.ResponseWriter, status int, page gomponents.Node) {
	var b bytes.Buffer
	if err := page.Render(&b); err != nil {
		http.Error(w, "the page cannot be drawn: "+err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(status)
	_, _ = w.Write(b.Bytes()) // who asked may be gone
}
