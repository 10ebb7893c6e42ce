package mails

import (
	"bytes"
	"html"
	"net/mail"
	"regexp"
	"strings"

	gomail "github.com/wneessen/go-mail"

	"kanban/internal/wire/call"
)

// Mail is one mail. What is sent is its plain text, with the same text as HTML beside it.
type Mail struct {
	ID      string // becomes the left side of the Message-ID, the same in every attempt
	To      string
	ToName  string // optional
	Subject string
	Text    string
	// Unsubscribe is an address that takes a POST and shows a page (RFC 8058); empty for
	// mail that nobody unsubscribes from.
	Unsubscribe string
	Files       []File
}

// File goes along with a mail.
type File struct {
	Name    string
	Kind    string // its media type
	Content []byte
}

// message writes a mail as it goes out.
func (m *Mailer) message(x Mail) (*gomail.Msg, error) {
	refused := func(what string, err error) (*gomail.Msg, error) {
		return nil, &call.Problem{
			Kind: call.Refused, Detail: what + " address is not valid: " + err.Error(),
			Err: err,
		}
	}
	msg := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
	from, err := mail.ParseAddress(m.via.Settings["from"])
	if err == nil {
		if name := m.via.Settings["fromName"]; name != "" {
			from.Name = name
		}
		err = msg.FromFormat(from.Name, from.Address)
	}
	if err != nil {
		return refused("the sender's", err)
	}
	if err := msg.AddToFormat(x.ToName, x.To); err != nil {
		return refused("the recipient's", err)
	}
	text, more := x.Text, ""
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834: nobody's holiday answers it
	if x.Unsubscribe != "" {
		msg.SetGenHeaderPreformatted(gomail.HeaderListUnsubscribe, "<"+x.Unsubscribe+">")
		msg.SetGenHeaderPreformatted(gomail.HeaderListUnsubscribePost, "List-Unsubscribe=One-Click")
		text = strings.TrimRight(text, "\n") + "\n\n-- \nNo more of these: " + x.Unsubscribe + "\n"
		more = `<p style="font-size: 80%"><a href="` + html.EscapeString(x.Unsubscribe) + `">Send me no more of these</a></p>`
	}
	msg.Subject(x.Subject)
	msg.SetMessageIDWithValue(x.ID + "@" + from.Address[strings.LastIndexByte(from.Address, '@')+1:])
	msg.SetBodyString(gomail.TypeTextPlain, text)
	msg.AddAlternativeString(gomail.TypeTextHTML, HTML(x.Text, more))
	for _, f := range x.Files {
		if err := msg.AttachReader(f.Name, bytes.NewReader(f.Content), gomail.WithFileContentType(
			gomail.ContentType(f.Kind))); err != nil {
			return nil, err
		}
	}
	return msg, nil
}

var (
	paragraphs = regexp.MustCompile(`\n[ \t]*\n+`)
	links      = regexp.MustCompile(`https?://[^\s<>"']+[^\s<>"'.,;:!?)\]]`)
)

// HTML writes a plain text as HTML: paragraphs, line breaks, and links that can be clicked.
// Nothing of the text is taken for HTML; what is added at its end is.
func HTML(text, end string) string {
	var b strings.Builder
	b.WriteString(`<!doctype html><html><head><meta charset="utf-8"></head><body style="font: 16px/1.5 system-ui, sans-serif; max-width: 40em">`)
	for _, p := range paragraphs.Split(strings.TrimSpace(strings.ReplaceAll(text, "\r\n", "\n")), -1) {
		b.WriteString("\n<p>")
		at := 0
		for _, found := range links.FindAllStringIndex(p, -1) {
			address := html.EscapeString(p[found[0]:found[1]])
			b.WriteString(lines(p[at:found[0]]) + `<a href="` + address + `">` + address + `</a>`)
			at = found[1]
		}
		b.WriteString(lines(p[at:]) + "</p>")
	}
	b.WriteString("\n" + end + "</body></html>\n")
	return b.String()
}

func lines(text string) string {
	return strings.ReplaceAll(html.EscapeString(text), "\n", "<br>\n")
}
