package mail

import (
	"io"
	"mime"
	"mime/quotedprintable"
	"net"
	netmail "net/mail"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// StandIn stands in for a server of mail: it takes every letter, and keeps it.
type StandIn struct {
	Taken func(Letter) // is called with every letter; nil: nobody

	mu      sync.Mutex
	letters []Letter
}

// longestLetter bounds a letter that is taken, in bytes.
const longestLetter = 1 << 20

// Serve takes letters on a listener until it is closed.
func (s *StandIn) Serve(l net.Listener) error {
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &taking{to: s}, nil }))
	server.Domain, server.MaxMessageBytes, server.ReadTimeout, server.WriteTimeout = "localhost", longestLetter, 10*time.Second, 10*time.Second
	return server.Serve(l)
}

// Letters are those that were taken.
func (s *StandIn) Letters() []Letter {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Letter(nil), s.letters...)
}

// taking is a letter on its way in.
type taking struct {
	to   *StandIn
	rcpt string
}

// Reset begins with the next letter.
func (t *taking) Reset() { t.rcpt = "" }

// Logout ends a connection.
func (t *taking) Logout() error { return nil }

// Mail takes the sender.
func (t *taking) Mail(string, *smtp.MailOptions) error { return nil }

// Rcpt takes the addressee.
func (t *taking) Rcpt(to string, _ *smtp.RcptOptions) error {
	t.rcpt = to
	return nil
}

// Data takes the letter.
func (t *taking) Data(r io.Reader) error {
	m, err := netmail.ReadMessage(r)
	if err != nil {
		return err
	}
	body := m.Body
	if strings.EqualFold(m.Header.Get("Content-Transfer-Encoding"), "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	subject, err := decoded(m.Header.Get("Subject"))
	if err != nil {
		return err
	}
	l := Letter{To: t.rcpt, Subject: subject, Text: strings.ReplaceAll(string(text), "\r\n", "\n")}
	t.to.mu.Lock()
	t.to.letters = append(t.to.letters, l)
	t.to.mu.Unlock()
	if t.to.Taken != nil {
		t.to.Taken(l)
	}
	return nil
}

// decoded is a header as it is read.
func decoded(header string) (string, error) { return new(mime.WordDecoder).DecodeHeader(header) }
