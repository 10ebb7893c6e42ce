// Package mails sends mail over SMTP.
package mails

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"

	"kanban/internal/adapter"
	"kanban/internal/wire/call"
)

// Mailer is a connected mail server.
type Mailer struct {
	via     adapter.Interface
	timeout time.Duration
}

// New uses an interface of kind smtp.
func New(c adapter.Interface, timeout time.Duration) *Mailer { return &Mailer{c, timeout} }

func (m *Mailer) client() (*mail.Client, error) {
	s := m.via.Settings
	host, portText, err := net.SplitHostPort(s["server"])
	if err != nil {
		return nil, &adapter.FieldError{Field: "server", Problem: fmt.Sprintf("%q is not host:port", s["server"])}
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return nil, &adapter.FieldError{Field: "server", Problem: fmt.Sprintf("%q is not a port", portText)}
	}
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(m.timeout), mail.WithTLSPolicy(mail.TLSMandatory)}
	switch s["security"] {
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	case "tls":
		options = append(options, mail.WithSSL())
	}
	if s["userName"] != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s["userName"]),
			mail.WithPassword(m.via.Secret["password"]))
	}
	return mail.NewClient(host, options...)
}

// Send sends one mail and returns the server's code, 250 when it was accepted. Once the
// server has answered 250 to the mail itself it is delivered, whatever becomes of the
// connection after that (RFC 5321, section 4.2.5).
func (m *Mailer) Send(ctx context.Context, x Mail) (code int, err error) {
	msg, err := m.message(x)
	if err != nil {
		return 0, err
	}
	client, err := m.client()
	if err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(ctx, m.timeout)
	defer cancel()
	if err := client.DialAndSendWithContext(ctx, msg); err != nil && !msg.IsDelivered() {
		p := problem(err)
		return p.Status, p
	}
	return 250, nil
}

// problem sorts what a mail server answered (RFC 5321 4.2.1).
func problem(err error) *call.Problem {
	p := &call.Problem{Kind: call.Unreachable, Detail: err.Error(), Err: err}
	var reply *textproto.Error
	var send *mail.SendError
	switch {
	case errors.As(err, &send) && send.ErrorCode() != 0:
		p.Status = send.ErrorCode()
	case errors.As(err, &reply):
		p.Status = reply.Code
	}
	switch {
	case p.Status == 535 || p.Status == 530 || p.Status == 534:
		p.Kind = call.WrongCredential
	case p.Status >= 500:
		p.Kind = call.Refused
	case p.Status >= 400:
		p.Kind = call.Throttled
	}
	return p
}

// Probe connects, signs in if a user name is set, and begins a mail from the sender to the
// sender that it does not send (RFC 5321, section 4.1.1.5, RSET): a server that takes no
// mail without sign-in or encryption says so there.
func (m *Mailer) Probe(ctx context.Context) []adapter.Report {
	err := m.begin(ctx)
	detail := "The server takes mail from " + m.via.Settings["from"] + "."
	if p, ok := call.As(err); ok && p.Kind == call.Throttled {
		detail, err = fmt.Sprintf("The server answers, and asks to come again later (%s).", p.Detail), nil
	}
	if p, ok := call.As(err); ok && p.Kind == call.Refused {
		err = &call.Problem{Kind: call.NotAllowed, Status: p.Status, Detail: p.Detail, Err: p.Err}
	}
	return []adapter.Report{adapter.ReportOf(adapter.MessagesOut, detail, err)}
}

func (m *Mailer) begin(ctx context.Context) error {
	client, err := m.client()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, m.timeout)
	defer cancel()
	c, err := client.DialToSMTPClientWithContext(ctx)
	if err != nil {
		return problem(err)
	}
	defer c.Close()
	from := m.via.Settings["from"]
	if err := c.Mail(from); err != nil {
		return problem(err)
	}
	if err := c.Rcpt(from); err != nil {
		return problem(err)
	}
	if err := c.Reset(); err != nil {
		return problem(err)
	}
	_ = client.CloseWithSMTPClient(c)
	return nil
}
