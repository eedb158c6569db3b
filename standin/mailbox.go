package standin

import (
	"io"
	"mime"
	"net"
	"net/http"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Letter is a mail that came.
type Letter struct {
	From, To, Subject, Text string
	At                      time.Time
}

// Mailbox is a simulated mail server: it takes every mail (SMTP, RFC 5321), delivers none, and shows them on a page.
type Mailbox struct {
	// Username and Password, if set, are asked for.
	Username, Password string
	// Refuse, if set, is what the server says to every recipient.
	Refuse string

	mu      sync.Mutex
	letters []Letter
	server  *smtp.Server
}

// Serve takes mails until Close.
func (m *Mailbox) Serve(l net.Listener) error {
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &mailSession{box: m}, nil }))
	s.Domain, s.AllowInsecureAuth, s.MaxMessageBytes, s.ReadTimeout, s.WriteTimeout = "post.saltmere.example", true, 1<<20,
		10*time.Second, 10*time.Second
	m.mu.Lock()
	m.server = s
	m.mu.Unlock()
	return s.Serve(l)
}

// Close ends it.
func (m *Mailbox) Close() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.server == nil {
		return nil
	}
	return m.server.Close()
}

// Letters are the mails to an address, or all, the newest first.
func (m *Mailbox) Letters(to string) []Letter {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []Letter
	for _, l := range slices.Backward(m.letters) {
		if to == "" || strings.EqualFold(l.To, to) {
			out = append(out, l)
		}
	}
	return out
}

func (m *Mailbox) keep(l Letter) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.letters = append(m.letters, l); len(m.letters) > 200 {
		m.letters = m.letters[1:]
	}
}

// Handler serves the page.
func (m *Mailbox) Handler() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		render(w, http.StatusOK, "mailbox.html", map[string]any{"Letters": m.Letters(r.URL.Query().Get("to"))})
	})
}

// mailSession is one connection of a mail client.
type mailSession struct {
	box    *Mailbox
	from   string
	to     []string
	signed bool
}

func (s *mailSession) AuthMechanisms() []string {
	if s.box.Username == "" {
		return nil
	}
	return []string{sasl.Plain}
}

func (s *mailSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, username, password string) error {
		if s.signed = username == s.box.Username && password == s.box.Password; !s.signed {
			return smtp.ErrAuthFailed
		}
		return nil
	}), nil
}

func (s *mailSession) Mail(from string, _ *smtp.MailOptions) error {
	if s.box.Username != "" && !s.signed {
		return smtp.ErrAuthRequired
	}
	s.from = from
	return nil
}

func (s *mailSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	if s.box.Refuse != "" {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: s.box.Refuse}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *mailSession) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	text, err := io.ReadAll(m.Body)
	if err != nil {
		return err
	}
	subject, err := new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject"))
	if err != nil {
		return err
	}
	for _, to := range s.to {
		s.box.keep(Letter{
			From:    m.Header.Get("From"),
			To:      to,
			Subject: subject,
			Text:    strings.ReplaceAll(string(text), "\r\n", "\n"),
			At:      time.Now(),
		})
	}
	return nil
}

func (s *mailSession) Reset()        { s.from, s.to = "", nil }
func (s *mailSession) Logout() error { return nil }
