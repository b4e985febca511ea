// Package outbound is how the service asks others: over connections that are encrypted but on this very machine, through no proxy, sent on to nobody else,
// and with answers that are bounded. The secrets that others ask for lie beside the data, and are never kept, told or logged.
package outbound

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"sentier/internal/policy"
)

// Error is that another could not be asked, or that what it says cannot be used; it is told as a sentence. What was behind it is for the log.
type Error struct {
	Why    policy.Said
	behind error
}

func (e *Error) Error() string { return e.Why.Error() }

// Unwrap is the sentence that it is told as, and what was behind it.
func (e *Error) Unwrap() []error { return []error{e.Why, e.behind} }

// Fault is an [Error] with a sentence; behind may be nil.
func Fault(behind error, form string, args ...any) error {
	return &Error{policy.Say(form, args...), behind}
}

// Behind is what was behind an error, for the log, in up to 300 characters; empty: nothing.
func Behind(err error) string {
	var e *Error
	if errors.As(err, &e) && e.behind != nil {
		return Clean(e.behind.Error(), 300)
	}
	return ""
}

// Reason is why a request failed, in up to 200 characters and without the address, which may hold a secret.
func Reason(err error) string {
	var said policy.Said
	if errors.As(err, &said) {
		return said.Error()
	}
	var of *url.Error
	if errors.As(err, &of) {
		err = of.Err
	}
	var on *net.OpError
	if errors.As(err, &on) && on.Op == "dial" {
		err = on.Err
	}
	return Clean(err.Error(), 200)
}

// Clean is what somebody else has written, for a sentence of ours: on one line, and in so many characters at most.
func Clean(text string, most int) string {
	text = strings.Map(func(r rune) rune {
		if r < ' ' || r == utf8.RuneError {
			return ' '
		}
		return r
	}, text)
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "…"
	}
	return text
}

// Loopback tells whether a host is this very machine, by its address.
func Loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Check finds what is wrong with an address that is asked by HTTP; nil: nothing.
func Check(address string) *policy.Said {
	at, err := url.Parse(address)
	if err != nil {
		at = &url.URL{}
	}
	switch {
	case at.Host == "" || at.User != nil || at.Fragment != "":
		return policy.Complain("%q is no address: write https://host/path", address)
	case at.Scheme != "https" && !(at.Scheme == "http" && Loopback(at.Hostname())):
		return policy.Complain("%q is not reached by https", address)
	}
	return nil
}

// mostAuthority bounds a certificate that is given, in bytes.
const mostAuthority = 64 << 10

// CheckAuthority finds what is wrong with the certificate of an authority; nil: nothing. An empty one stands for those that the machine trusts.
func CheckAuthority(pem string) *policy.Said {
	if pem != "" && (len(pem) > mostAuthority || !x509.NewCertPool().AppendCertsFromPEM([]byte(pem))) {
		return policy.Complain("holds no certificate: give it in PEM, as it begins with BEGIN CERTIFICATE")
	}
	return nil
}

// TLS is how connections are encrypted to those for whom an authority vouches, given in PEM; empty: one that the machine trusts.
func TLS(authority string) *tls.Config {
	out := &tls.Config{MinVersion: tls.VersionTLS12}
	if authority != "" {
		out.RootCAs = x509.NewCertPool()
		out.RootCAs.AppendCertsFromPEM([]byte(authority))
	}
	return out
}

// Client asks by HTTP: within a time, and with no answer of more bytes than most.
func Client(authority string, limit time.Duration, most int64) *http.Client {
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.Proxy, transport.TLSClientConfig, transport.MaxIdleConnsPerHost = nil, TLS(authority), 1
	return &http.Client{Timeout: limit, Transport: bounded{transport, most}, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
}

// bounded keeps an answer from being larger than one reads.
type bounded struct {
	http.RoundTripper
	most int64
}

// RoundTrip makes a request whose answer is bounded.
func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		resp.Body = &boundedBody{resp.Body, b.most, b.most}
	}
	return resp, err
}

type boundedBody struct {
	io.ReadCloser
	left, most int64
}

// Read gives what is left of what one reads, and an error where there is more.
func (b *boundedBody) Read(into []byte) (int, error) {
	if int64(len(into)) > b.left+1 {
		into = into[:b.left+1]
	}
	n, err := b.ReadCloser.Read(into)
	if int64(n) > b.left {
		return int(b.left), Fault(nil, "there is more than %d kB of it", b.most>>10)
	}
	b.left -= int64(n)
	return n, err
}

// CloseIdle closes the connections of a client that nobody asks with any more.
func CloseIdle(c *http.Client) {
	if b, ok := c.Transport.(bounded); ok {
		b.RoundTripper.(*http.Transport).CloseIdleConnections()
	}
}

// Get reads an address as a bearer of a token; empty: as nobody. What is answered otherwise than with 200 is an error.
func Get(ctx context.Context, c *http.Client, address, token, accept string) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, Fault(err, "%q is no address: write https://host/path", address)
	}
	req.Header.Set("Accept", accept)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := c.Do(req)
	if err != nil {
		return nil, Fault(err, "nobody answers there: %s", Reason(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, Fault(nil, "it was answered with %d", resp.StatusCode)
	}
	body, err := io.ReadAll(resp.Body)
	if err != nil {
		return nil, Fault(err, "what is said there cannot be read to its end: %s", Reason(err))
	}
	return body, nil
}
