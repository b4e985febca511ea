package server

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// lookAfter is how often the files of a certificate are looked at, while anybody connects.
const lookAfter = time.Second

// certificate is a TLS certificate in files, which is read again when they change: a new one counts with the next connection. One that
// cannot be read is told in the log, and the one before goes on.
type certificate struct {
	file, key string
	log       *slog.Logger

	mu     sync.Mutex
	now    *tls.Certificate
	looked time.Time
	of     [2]time.Time // when the files were written that it was read from
	wrong  [2]time.Time // likewise, of files that could not be read: told once
}

func newCertificate(file, key string, log *slog.Logger) (*certificate, error) {
	c := &certificate{file: file, key: key, log: log}
	return c, c.read()
}

// written is when the files were written.
func (c *certificate) written() (out [2]time.Time, err error) {
	for i, path := range []string{c.file, c.key} {
		info, err := os.Stat(path)
		if err != nil {
			return out, err
		}
		out[i] = info.ModTime()
	}
	return out, nil
}

func (c *certificate) read() error {
	of, err := c.written()
	if err != nil {
		return fmt.Errorf("read the TLS certificate: %w", err)
	}
	now, err := tls.LoadX509KeyPair(c.file, c.key)
	if err != nil {
		c.wrong = of
		return fmt.Errorf("read the TLS certificate: %w", err)
	}
	c.now, c.of = &now, of
	return nil
}

// Look reads the files again where they have changed.
func (c *certificate) look() {
	of, err := c.written()
	if err != nil || of == c.of || of == c.wrong {
		return // a file that is being replaced is there again in a moment
	}
	if err := c.read(); err != nil {
		c.log.Error("the new TLS certificate cannot be used, and the one before goes on", "error", err)
		return
	}
	c.log.Info("the TLS certificate was read again", "until", c.now.Leaf.NotAfter)
}

// get gives the certificate for a connection.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= lookAfter {
		c.looked = now
		c.look()
	}
	return c.now, nil
}

// again looks at once.
func (c *certificate) again() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.wrong = [2]time.Time{}
	c.look()
}

// until is when the certificate ends.
func (c *certificate) until() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now.Leaf.NotAfter
}
