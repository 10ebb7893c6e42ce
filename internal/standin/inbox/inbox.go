// Package inbox stands in for people's mail: an SMTP server that keeps every
// mail, and a page and JSON that list them.
package inbox

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"html/template"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/http"
	"net/mail"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"kanban/internal/standin/fault"
	"kanban/internal/standin/page"
)

// Mail is one received mail.
type Mail struct {
	From      string    `json:"from"`
	To        string    `json:"to"`
	Subject   string    `json:"subject"`
	MessageID string    `json:"messageId"`
	Text      string    `json:"text"`
	HTML      string    `json:"html"`
	At        time.Time `json:"at"`
	// Header is everything that stands above the text, as it came.
	Header mail.Header `json:"header"`
	Files  []File      `json:"files"`
}

// File came along with a mail.
type File struct {
	Name    string `json:"name"`
	Kind    string `json:"kind"` // its media type
	Content []byte `json:"content"`
}

// Inbox is the stand-in. Use New.
type Inbox struct {
	mux   *http.ServeMux
	fault *fault.Switch
	mu    sync.Mutex
	mails []Mail
}

// New is an empty inbox whose SMTP side misbehaves as the switch says.
func New(f *fault.Switch) *Inbox {
	b := &Inbox{mux: http.NewServeMux(), fault: f}
	b.mux.HandleFunc("GET /mails", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(b.Mails())
	})
	b.mux.HandleFunc("GET /{$}", b.page)
	return b
}

// ServeHTTP answers page and JSON.
func (b *Inbox) ServeHTTP(w http.ResponseWriter, r *http.Request) { b.mux.ServeHTTP(w, r) }

// Mails is a copy of what came, newest first.
func (b *Inbox) Mails() []Mail {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := make([]Mail, 0, len(b.mails))
	for i := len(b.mails) - 1; i >= 0; i-- {
		out = append(out, b.mails[i])
	}
	return out
}

// SMTP is the mail server; serve it on a listener.
func (b *Inbox) SMTP() *smtp.Server {
	s := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &session{inbox: b, conn: c}, nil
	}))
	s.Domain = "inbox.fernmoor.example"
	s.ReadTimeout, s.WriteTimeout = 20*time.Second, 20*time.Second
	s.MaxMessageBytes = 16 << 20
	return s
}

type session struct {
	inbox *Inbox
	conn  *smtp.Conn
	from  string
	to    []string
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	f, hit := s.inbox.fault.Take("MAIL", from)
	if hit {
		switch f.Kind {
		case fault.Latency:
			time.Sleep(time.Duration(f.Millis) * time.Millisecond)
		case fault.Cut, fault.Truncate:
			_ = s.conn.Close()
			return errors.New("cut")
		default:
			code := 451
			if f.Status >= 500 && f.Status < 600 {
				code = f.Status
			}
			return &smtp.SMTPError{
				Code: code, EnhancedCode: smtp.EnhancedCode{code / 100, 3, 0},
				Message: "switched fault",
			}
		}
	}
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	if err != nil {
		subject = m.Header.Get("Subject")
	}
	got := Mail{
		From: s.from, To: strings.Join(s.to, ", "), Subject: subject, MessageID: m.Header.Get("Message-Id"),
		At: time.Now(), Header: m.Header, Files: []File{},
	}
	got.read(m.Header.Get("Content-Type"), m.Header.Get("Content-Transfer-Encoding"), "", m.Body)
	s.inbox.mu.Lock()
	s.inbox.mails = append(s.inbox.mails, got)
	s.inbox.mu.Unlock()
	return nil
}

// read takes a part of a mail in: its plain text, its HTML, a file, or parts of its own.
func (m *Mail) read(kind, encoding, disposition string, body io.Reader) {
	media, parameters, _ := mime.ParseMediaType(kind)
	if how, about, err := mime.ParseMediaType(disposition); err == nil && how == "attachment" {
		if strings.EqualFold(encoding, "base64") {
			body = base64.NewDecoder(base64.StdEncoding, body)
		}
		content, _ := io.ReadAll(io.LimitReader(body, 16<<20))
		m.Files = append(m.Files, File{Name: about["filename"], Kind: media, Content: content})
		return
	}
	if !strings.HasPrefix(media, "multipart/") {
		if text := decoded(encoding, body); media == "text/html" {
			m.HTML = text
		} else {
			m.Text = text
		}
		return
	}
	for parts := multipart.NewReader(body, parameters["boundary"]); ; {
		part, err := parts.NextRawPart()
		if err != nil {
			return
		}
		h := part.Header
		m.read(h.Get("Content-Type"), h.Get("Content-Transfer-Encoding"), h.Get("Content-Disposition"), part)
	}
}

func decoded(encoding string, body io.Reader) string {
	if strings.EqualFold(encoding, "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	out, _ := io.ReadAll(io.LimitReader(body, 1<<20))
	return strings.TrimSpace(strings.ReplaceAll(string(out), "\r\n", "\n"))
}

var mails = template.Must(template.New("mails").Parse(`<table><tr><th>To<th>Subject<th>Text</tr>
{{range .}}<tr><td>{{.To}}<td>{{.Subject}}<td><pre>{{.Text}}</pre>{{range .Files}}<p>{{.Name}} ({{len .Content}} bytes)</p>{{end}}</tr>{{else}}<tr><td colspan="3">No mail yet.</tr>{{end}}</table>`))

func (b *Inbox) page(w http.ResponseWriter, _ *http.Request) {
	var body bytes.Buffer
	_ = mails.Execute(&body, b.Mails())
	page.Write(w, page.Page{
		Title: "Everybody's inbox",
		About: "Stand-in for people's mail. It takes mail by SMTP; the newest is on top.",
		Body:  template.HTML(body.String()),
	})
}
