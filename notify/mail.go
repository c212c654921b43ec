package notify

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/wneessen/go-mail"

	"kasbah/core/alert"
	"kasbah/core/value"
	"kasbah/render"
)

// Mail tells people in words.
type Mail struct {
	Filter
	Source
	Called   string
	To       []string
	From     string
	Server   string                                    // smtp://HOST:PORT, or smtps:// for TLS from the beginning
	User     string                                    // "" for none
	Password func(ctx context.Context) (string, error) // nil for none
}

// Name is what kasbah.toml calls it.
func (l *Mail) Name() string { return l.Called }

// Server is the host and port of a mail server's address, and whether it speaks TLS from the beginning.
func Server(address string) (host string, port int, tls bool, err error) {
	u, err := url.Parse(address)
	if err != nil || u.Scheme != "smtp" && u.Scheme != "smtps" || u.Hostname() == "" || strings.Trim(u.Path, "/") != "" || u.User != nil {
		return "", 0, false, fmt.Errorf("%q must be the address of a mail server, such as smtp://mail.example:587", address)
	}
	tls, port = u.Scheme == "smtps", 587
	if tls {
		port = 465
	}
	if p := u.Port(); p != "" {
		if port, err = strconv.Atoi(p); err != nil {
			return "", 0, false, err
		}
	}
	return u.Hostname(), port, tls, nil
}

// Send sends a mail. The message's id is in its Message-ID.
func (l *Mail) Send(ctx context.Context, m *alert.Message) error {
	msg := mail.NewMsg()
	if err := errors.Join(msg.From(l.From), msg.To(l.To...)); err != nil {
		return err
	}
	msg.Subject(fmt.Sprintf("[%s %s] %s: %s", l.Estate, l.Env, m.Type(), render.Clean(m.Subject())))
	msg.SetMessageIDWithValue(m.ID + "@kasbah." + l.Estate)
	msg.SetDateWithValue(m.At)
	msg.SetBodyString(mail.TypeTextPlain, l.words(m))
	host, port, tls, err := Server(l.Server)
	if err != nil {
		return err
	}
	o := []mail.Option{mail.WithPort(port), mail.WithTLSPolicy(mail.TLSOpportunistic)}
	if tls {
		o = append(o, mail.WithSSL())
	}
	if l.User != "" && l.Password != nil {
		password, err := l.Password(ctx)
		if err != nil {
			return err
		}
		o = append(o, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(l.User), mail.WithPassword(password),
			mail.WithTLSPolicy(mail.TLSMandatory))
	}
	c, err := mail.NewClient(host, o...)
	if err != nil {
		return err
	}
	if err := c.DialAndSendWithContext(ctx, msg); err != nil {
		return fmt.Errorf("the mail server %s: %w", host, err)
	}
	return nil
}

// words is an event for people.
func (l *Mail) words(m *alert.Message) string {
	a := m.Alert
	f := a.Finding
	var b strings.Builder
	line := func(name, text string) {
		if text != "" {
			fmt.Fprintf(&b, "%-13s %s\n", name, render.Clean(text))
		}
	}
	show := func(v *value.Any) string {
		if v == nil {
			return ""
		}
		return value.Plain(v.V)
	}
	line("what", m.Subject())
	line("event", m.Type())
	line("verdict", f.Verdict)
	line("expected", show(f.Expected))
	line("found", show(f.Found))
	line("because", f.Because)
	line("by", f.By)
	if f.At != nil {
		line("at", f.At.UTC().Format("2006-01-02 15:04:05Z"))
	}
	line("declared at", f.Position)
	if r := m.Run; r != nil {
		line("run", r.ID)
		line("who", r.Who)
		line("command", r.Command)
		line("reason", r.Reason)
		line("outcome", r.Outcome)
	}
	if a.Ack != nil {
		line("acknowledged", a.Ack.Who+": "+a.Ack.Why)
		line("until", a.Ack.Until)
	}
	switch {
	case a.ID != "":
		line("alert", a.ID)
		fmt.Fprintf(&b, "\nkasbah alerts show %s -env %s\n", a.ID, l.Env)
	case m.Run != nil:
		fmt.Fprintf(&b, "\nkasbah ledger log %s -env %s\n", m.Run.Ward, l.Env)
	}
	return b.String()
}
