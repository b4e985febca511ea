package audit

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
)

// Syslog is a sink that sends entries to a syslog server over TLS: messages of RFC 5424, framed by RFC 5425. That protocol has no answers,
// so that what was sent shortly before a connection broke is sent again.
type Syslog struct {
	Address string // host:port
	TLS     *tls.Config

	conn *syslogConn
	lost bool // a connection broke, and nobody has been told
}

// syslogConn is a connection, and whether it has ended.
type syslogConn struct {
	*tls.Conn
	broken atomic.Bool
}

// Times of a connection to a syslog server.
const (
	syslogDial   = 10 * time.Second
	syslogWrite  = 20 * time.Second
	syslogSettle = 3 * time.Second
)

// Priorities of messages, RFC 5424, 6.2.1: of the facility “log audit”, as a notice or, of what was refused, as a warning.
const (
	facilityAudit   = 13 << 3
	severityWarning = 4
	severityNotice  = 5
)

// Send sends entries, over a new connection where there is none.
func (s *Syslog) Send(ctx context.Context, entries []Entry) error {
	if s.ended() { // since the last look
		s.drop()
	}
	if s.conn == nil {
		if err := s.dial(ctx); err != nil {
			return err
		}
	}
	var out bytes.Buffer
	for i := range entries {
		message, err := syslogMessage(&entries[i])
		if err != nil {
			return err
		}
		fmt.Fprintf(&out, "%d %s", len(message), message)
	}
	err := s.conn.SetWriteDeadline(time.Now().Add(syslogWrite))
	if err == nil {
		_, err = s.conn.Write(out.Bytes())
	}
	if err != nil {
		s.drop()
	}
	return err
}

// ended tells whether there is a connection, and it broke.
func (s *Syslog) ended() bool { return s.conn != nil && s.conn.broken.Load() }

// drop lets a connection go that broke.
func (s *Syslog) drop() {
	s.conn.Close() // it is broken already
	s.conn, s.lost = nil, true
}

func (s *Syslog) dial(ctx context.Context) error {
	dialer := tls.Dialer{NetDialer: &net.Dialer{Timeout: syslogDial}, Config: s.TLS}
	conn, err := dialer.DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return fmt.Errorf("reach the syslog server: %w", err)
	}
	s.conn = &syslogConn{Conn: conn.(*tls.Conn)}
	// The first write after the peer has gone succeeds, and is lost: only a reader is told.
	go func(c *syslogConn) {
		io.Copy(io.Discard, c.Conn) // until it ends, however it does
		c.broken.Store(true)
	}(s.conn)
	return nil
}

// Lost tells, once, whether a connection broke since it was asked last: also where there is another by now.
func (s *Syslog) Lost() bool {
	if s.ended() {
		s.drop()
	}
	lost := s.lost
	s.lost = false
	return lost
}

// Settles is how long a connection must have stood after it for what was sent to count as arrived.
func (s *Syslog) Settles() time.Duration { return syslogSettle }

// Close ends the connection.
func (s *Syslog) Close() error {
	if s.conn == nil {
		return nil
	}
	return s.conn.Close()
}

// enterprise is the number by which RFC 5612 lets examples name their own structured data.
const enterprise = "32473"

// syslogMessage writes an entry as a message of RFC 5424: what is searched for as structured data, and the whole as JSON.
func syslogMessage(e *Entry) ([]byte, error) {
	body, err := json.Marshal(e)
	if err != nil {
		return nil, err
	}
	severity := severityNotice
	if e.Outcome == Refused {
		severity = severityWarning
	}
	host, err := os.Hostname()
	if err != nil || host == "" {
		host = "-"
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, "<%d>1 %s %s sentier %d %s [audit@%s", facilityAudit|severity, e.At.UTC().Format("2006-01-02T15:04:05.000000Z07:00"), syslogName(host, 255), os.Getpid(), syslogName(string(e.Kind), 32), enterprise)
	for _, p := range [][2]string{{"entry", strconv.FormatUint(e.Seq, 10)}, {"outcome", e.Outcome}, {"by", e.By}, {"from", e.From}, {"user", e.User}, {"right", e.Right}, {"device", e.Device}} {
		if p[1] != "" {
			fmt.Fprintf(&out, ` %s="%s"`, p[0], escapeParam.Replace(p[1]))
		}
	}
	out.WriteString("] ")
	out.Write(body)
	return out.Bytes(), nil
}

// escapeParam escapes the value of a parameter, RFC 5424, 6.3.3.
var escapeParam = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `]`, `\]`)

// syslogName is a text as a field of the header takes it: printable ASCII, so long at most.
func syslogName(text string, most int) string {
	out := strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' {
			return '_'
		}
		return r
	}, text)
	return out[:min(len(out), most)]
}
