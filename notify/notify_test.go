package notify_test

import (
	"context"
	"encoding/json"
	"io"
	"mime"
	"net"
	"net/http"
	"net/http/httptest"
	"net/mail"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/require"

	"kasbah/core/alert"
	"kasbah/core/value"
	"kasbah/notify"
)

var coast = notify.Source{Estate: "lantern-coast", Env: "live"}

// message is one with a hostile name.
func message() *alert.Message {
	return &alert.Message{ID: "01KBA0000000000000000000AA", At: time.Date(2026, 11, 29, 16, 0, 0, 0, time.UTC), Kind: alert.WasOpened,
		Alert: alert.Alert{ID: "k7d2m9qx", Phase: alert.Open, Finding: alert.Finding{Ward: "shore", Address: "medina.machine/gauge\r\nBcc: all@coast.example",
			Type: "medina.machine", Verdict: alert.Differs, Path: "size", Expected: &value.Any{V: "small"}, Found: &value.Any{V: "large\x1b[31m"},
			By: "keeper-2", Position: "shore/shore.star:4"}}}
}

func text(s string) func(context.Context) (string, error) {
	return func(context.Context) (string, error) { return s, nil }
}

// TestWebhook: a receiver gets a CloudEvent that it can verify, under an id that stays the same.
func TestWebhook(t *testing.T) {
	const key = "whsec_bGFudGVybi1jb2FzdC1rZXktMTIzNA=="
	verify, err := standardwebhooks.NewWebhook(key)
	require.NoError(t, err)
	var ids []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		require.NoError(t, err)
		require.NoError(t, verify.Verify(body, r.Header))
		require.Equal(t, "application/cloudevents+json; charset=utf-8", r.Header.Get("Content-Type"))
		var e struct {
			Specversion, ID, Source, Type, Subject, Time string
			Data                                         struct {
				Env   string
				Alert alert.Alert
			}
		}
		require.NoError(t, json.Unmarshal(body, &e))
		require.Equal(t, "1.0 /lantern-coast/live drift.opened 2026-11-29T16:00:00Z", strings.Join([]string{e.Specversion, e.Source, e.Type, e.Time}, " "))
		require.Equal(t, e.ID, r.Header.Get("webhook-id"))
		require.Equal(t, "k7d2m9qx", e.Data.Alert.ID)
		ids = append(ids, e.ID)
	}))
	defer server.Close()
	h := &notify.Webhook{Source: coast, Called: "room", URL: text(server.URL), Sign: text(key), Transport: http.DefaultTransport}
	require.NoError(t, h.Send(context.Background(), message()))
	require.NoError(t, h.Send(context.Background(), message()))
	require.Len(t, ids, 2)
	require.Equal(t, ids[0], ids[1])
}

// limit is the time of a message: short for one that takes all of it.
func limit(all bool) time.Duration {
	if all {
		return 2 * time.Second
	}
	return time.Minute
}

// TestBadReceivers: whatever a receiver does, sending ends soon with an error that says so and shows no address.
func TestBadReceivers(t *testing.T) {
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("sent elsewhere") }))
	defer elsewhere.Close()
	stop := make(chan struct{})
	for name, c := range map[string]struct {
		answer http.HandlerFunc
		words  string
	}{
		"500": {func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(500) }, "127.0.0.1 answers 500"},
		"redirect": {func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
		},
			"events are sent nowhere else"},
		"never": {func(_ http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body) // so that the end of the connection is noticed
			select {
			case <-r.Context().Done():
			case <-stop:
			}
		}, "deadline exceeded"},
		"endless": {func(w http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
			for r.Context().Err() == nil {
				if _, err := w.Write(make([]byte, 1<<20)); err != nil {
					return
				}
			}
		}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			server := httptest.NewServer(c.answer)
			defer server.Close()
			h := &notify.Webhook{Source: coast, URL: text(server.URL + "/secret-path"), Transport: http.DefaultTransport}
			ctx, cancel := context.WithTimeout(context.Background(), limit(c.words == "deadline exceeded"))
			defer cancel()
			err := h.Send(ctx, message())
			if c.words == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.words)
			require.NotContains(t, err.Error(), "secret-path")
		})
	}
	close(stop)
	for _, wrong := range []string{"ftp://secret-path", "secret-path", "http://", "http://secret path", "http://127.0.0.1:1/secret-path"} {
		h := &notify.Webhook{Source: coast, URL: text(wrong), Transport: http.DefaultTransport}
		err := h.Send(context.Background(), message())
		require.Error(t, err, wrong)
		require.NotContains(t, err.Error(), "secret", wrong)
	}
}

// TestProgram: a program gets the event; one that fails, never ends or says too much is an error.
func TestProgram(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("KASBAH_SECRET_WORD", "lantern")
	run := func(script string) error {
		p := &notify.Program{Source: coast, Run: []string{"sh", "-c", script}, Dir: dir}
		ctx, cancel := context.WithTimeout(context.Background(), limit(script == "sleep 60" || script == "yes >&2"))
		defer cancel()
		return p.Send(ctx, message())
	}
	require.NoError(t, run("cat > got; env > env"))
	got, err := os.ReadFile(filepath.Join(dir, "got"))
	require.NoError(t, err)
	require.Contains(t, string(got), `"type":"drift.opened"`)
	env, err := os.ReadFile(filepath.Join(dir, "env"))
	require.NoError(t, err)
	require.NotContains(t, string(env), "lantern")
	require.ErrorContains(t, run("echo no pager here >&2; exit 3"), "exit status 3: no pager here")
	require.ErrorContains(t, run("sleep 60"), "took too long")
	require.ErrorContains(t, run("yes >&2"), "took too long")
	require.NoError(t, run("exit 0"), "who does not read is told as well")
}

// box is a mail server that keeps what it gets.
type box struct{ mails chan string }

func (b *box) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{b: b}, nil }

type session struct {
	b  *box
	to []string
}

func (s *session) Reset()                               {}
func (s *session) Logout() error                        { return nil }
func (s *session) Mail(string, *smtp.MailOptions) error { return nil }
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}
func (s *session) Data(r io.Reader) error {
	body, err := io.ReadAll(r)
	s.b.mails <- strings.Join(s.to, ",") + "\n" + string(body)
	return err
}

// TestMail: people get an event in words; a name cannot add a line of the head.
func TestMail(t *testing.T) {
	b := &box{make(chan string, 10)}
	server := smtp.NewServer(b)
	server.Domain, server.AllowInsecureAuth = "mail.lantern.example", true
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(listener) }() // it ends when it is closed
	defer server.Close()
	m := &notify.Mail{Source: coast, To: []string{"keepers@lantern.example"}, From: "kasbah@lantern.example",
		Server: "smtp://" + listener.Addr().String()}
	require.NoError(t, m.Send(context.Background(), message()))
	got := <-b.mails
	require.True(t, strings.HasPrefix(got, "keepers@lantern.example\n"), got)
	head, body, ok := strings.Cut(got, "\r\n\r\n")
	require.True(t, ok)
	require.Contains(t, head, "Message-ID: <01KBA0000000000000000000AA@kasbah.lantern-coast>")
	require.NotContains(t, head, "\nBcc:")
	require.Contains(t, body, "expected      small")
	require.Contains(t, body, "kasbah alerts show k7d2m9qx -env live")
	require.NotContains(t, got, "\x1b")
	m.Server = "smtp://127.0.0.1:1"
	require.ErrorContains(t, m.Send(context.Background(), message()), "the mail server 127.0.0.1")
	for _, wrong := range []string{"mail.lantern.example", "http://x", "smtp://", "smtp://user:word@x", "smtp://x/y"} {
		_, _, _, err := notify.Server(wrong)
		require.Error(t, err, wrong)
	}
}

// TestMailServer: a mail server that is not ours takes the mail, and keeps it as it was sent.
func TestMailServer(t *testing.T) {
	path, err := exec.LookPath("aiosmtpd")
	if err != nil {
		t.Skip("aiosmtpd is not installed")
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := l.Addr().String()
	require.NoError(t, l.Close())
	dir := filepath.Join(t.TempDir(), "mails")
	server := exec.Command(path, "-n", "-l", at, "-c", "aiosmtpd.handlers.Mailbox", dir)
	require.NoError(t, server.Start())
	t.Cleanup(func() {
		_ = server.Process.Kill()
		_ = server.Wait() // it was killed
	})
	m := &notify.Mail{Source: coast, To: []string{"keepers@lantern.example", "harbour@lantern.example"}, From: "kasbah@lantern.example", Server: "smtp://" + at}
	require.Eventually(t, func() bool { return m.Send(context.Background(), message()) == nil }, time.Minute, 50*time.Millisecond)
	kept, err := filepath.Glob(filepath.Join(dir, "new", "*"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
	f, err := os.Open(kept[0])
	require.NoError(t, err)
	defer f.Close()
	got, err := mail.ReadMessage(f)
	require.NoError(t, err)
	to, err := got.Header.AddressList("To")
	require.NoError(t, err)
	require.Len(t, to, 2)
	subject, err := new(mime.WordDecoder).DecodeHeader(got.Header.Get("Subject"))
	require.NoError(t, err)
	require.Contains(t, subject, "medina.machine")
	require.Equal(t, "<01KBA0000000000000000000AA@kasbah.lantern-coast>", got.Header.Get("Message-ID"))
}

// TestFilter: patterns choose events by their types.
func TestFilter(t *testing.T) {
	m := message()
	require.True(t, notify.Filter{}.Wants(m))
	require.True(t, notify.Filter{Events: []string{"survey.failed", "drift.*"}}.Wants(m))
	require.False(t, notify.Filter{Events: []string{"drift.resolved"}}.Wants(m))
	m.Alert.Finding.Verdict = alert.Failed
	require.Equal(t, "survey.failed", m.Type())
	m.Kind = alert.WasResolved
	require.Equal(t, "survey.resolved", m.Type())
}
