// Package mail sends letters over SMTP, and stands in for a server of mail in tests and in the demonstration.
package mail

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"time"

	"github.com/wneessen/go-mail"
)

// Letter is a letter to one person, in plain text.
type Letter struct{ To, Name, Subject, Text string }

// Sender sends letters. The error is told to whoever wanted one sent.
type Sender interface {
	Send(ctx context.Context, l Letter) error
}

// SMTP sends letters by a server of mail.
type SMTP struct {
	client *mail.Client
	from   string
	within time.Duration // a letter is taken
}

// sendTime is how long a letter may take to be taken: somebody may be looking on.
const sendTime = 10 * time.Second

// ParseSMTP reads the address of a server of mail: smtp://host:port, where TLS is begun once it is reached (STARTTLS, required), smtps://host:port, with TLS
// from the start, or smtp+plain://host:port, without, for a server on the same machine. A user stands in it before the host; password is theirs.
func ParseSMTP(address, password, from string) (*SMTP, error) {
	return parse(address, password, from, sendTime)
}

func parse(address, password, from string, within time.Duration) (*SMTP, error) {
	u, err := url.Parse(address)
	if err != nil || u.Hostname() == "" {
		return nil, errors.New("it is no address of a server of mail: write it as smtp://user@mail.example:587")
	}
	if from == "" {
		return nil, errors.New("letters need a sender: give --mail-from")
	}
	options := []mail.Option{mail.WithTimeout(within), mail.WithoutNoop()}
	port := map[string]int{"smtp": 587, "smtps": 465, "smtp+plain": 25}[u.Scheme]
	switch u.Scheme {
	case "smtp":
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	case "smtps":
		options = append(options, mail.WithSSL())
	case "smtp+plain":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		return nil, fmt.Errorf("%q is no way to a server of mail: write smtp, smtps or smtp+plain", u.Scheme)
	}
	if text := u.Port(); text != "" {
		if port, err = strconv.Atoi(text); err != nil {
			return nil, fmt.Errorf("%q is no port", text)
		}
	}
	options = append(options, mail.WithPort(port))
	if u.User.Username() != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(u.User.Username()), mail.WithPassword(password))
	}
	client, err := mail.NewClient(u.Hostname(), options...)
	if err != nil {
		return nil, err
	}
	if err := mail.NewMsg().From(from); err != nil {
		return nil, fmt.Errorf("%q is no sender: %w", from, err)
	}
	return &SMTP{client, from, within}, nil
}

// Send sends a letter.
func (s *SMTP) Send(ctx context.Context, l Letter) error {
	m := mail.NewMsg()
	if err := errors.Join(m.FromFormat("Sentier", s.from), m.AddToFormat(l.Name, l.To)); err != nil {
		return fmt.Errorf("address a letter: %w", err)
	}
	m.Subject(l.Subject)
	m.SetDate()
	m.SetBodyString(mail.TypeTextPlain, l.Text)
	ctx, cancel := context.WithTimeout(ctx, s.within)
	defer cancel()
	if err := s.client.DialAndSendWithContext(ctx, m); err != nil {
		return fmt.Errorf("send a letter: %w", err)
	}
	return nil
}
