package server

import (
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
)

// ParsePublicURL reads the address by which clients reach the service: http or https, with a path where it lies below one.
func ParsePublicURL(text string) (*url.URL, error) {
	u, err := url.Parse(text)
	switch {
	case err != nil:
		return nil, fmt.Errorf("%q is no address: %w", text, err)
	case u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.User != nil || u.RawQuery != "" || u.Fragment != "":
		return nil, fmt.Errorf("%q is no address by which a service can be reached: write it as https://sentier.example/path", text)
	}
	u.Path, u.RawPath = strings.TrimRight(u.Path, "/"), ""
	return u, nil
}

// origin is where a request came from, by what the proxies say that are trusted.
type origin struct {
	address string // of the client
	secure  bool   // it came by TLS
}

// originOf finds where a request came from. What a header says counts only where a trusted proxy has sent it: the nearest
// address that is none of theirs is the client's.
func (s *Server) originOf(r *http.Request) origin {
	peer, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		peer = r.RemoteAddr
	}
	o := origin{address: peer, secure: r.TLS != nil}
	if !s.trusts(peer) {
		return o
	}
	hops := forwarded(r.Header)
	for i := len(hops) - 1; i >= 0; i-- {
		hop := hops[i]
		if hop.proto != "" {
			o.secure = strings.EqualFold(hop.proto, "https")
		}
		if _, err := netip.ParseAddr(hop.client); err != nil {
			break // a name that a proxy hides it behind is no address
		}
		if o.address = hop.client; !s.trusts(hop.client) {
			break
		}
	}
	return o
}

func (s *Server) trusts(address string) bool {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	ip = ip.Unmap().WithZone("")
	for _, p := range s.trusted {
		if p.Contains(ip) {
			return true
		}
	}
	return false
}

// hop is what one proxy says of whom it had a request from.
type hop struct{ client, proto string }

// forwarded reads Forwarded (RFC 7239), or else X-Forwarded-For with X-Forwarded-Proto: the farthest first.
func forwarded(h http.Header) []hop {
	var out []hop
	if lines := h.Values("Forwarded"); len(lines) > 0 {
		for _, element := range strings.Split(strings.Join(lines, ","), ",") {
			var one hop
			for _, pair := range strings.Split(element, ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
				value = strings.Trim(value, `"`)
				switch strings.ToLower(name) {
				case "for":
					one.client = withoutPort(value)
				case "proto":
					one.proto = value
				}
			}
			out = append(out, one)
		}
		return out
	}
	protos := strings.Split(strings.Join(h.Values("X-Forwarded-Proto"), ","), ",")
	clients := strings.Split(strings.Join(h.Values("X-Forwarded-For"), ","), ",")
	for i, client := range clients {
		one := hop{client: withoutPort(strings.TrimSpace(client))}
		if at := len(protos) - len(clients) + i; at >= 0 {
			one.proto = strings.TrimSpace(protos[at])
		}
		out = append(out, one)
	}
	return out
}

func withoutPort(address string) string {
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return strings.Trim(address, "[]")
}

// base is how clients reach the service, without a slash at its end. The Host header, which anybody can write, says nothing.
func (s *Server) base() string {
	if s.public != nil {
		return s.public.String()
	}
	return s.address
}

// prefix is the path below which clients reach the service; empty: the root.
func (s *Server) prefix() string {
	if s.public == nil {
		return ""
	}
	return s.public.Path
}

// isSecure tells whether the client reaches the service by TLS.
func (s *Server) isSecure(o origin) bool {
	return o.secure || s.public != nil && s.public.Scheme == "https"
}

// withoutPrefix takes the path below which the service lies off a request, where a proxy has left it there.
func (s *Server) withoutPrefix(r *http.Request) *http.Request {
	prefix := s.prefix()
	path, ok := strings.CutPrefix(r.URL.Path, prefix)
	if prefix == "" || !ok || path != "" && path[0] != '/' {
		return r
	}
	out := r.Clone(r.Context())
	out.URL.Path = "/" + strings.TrimPrefix(path, "/")
	out.URL.RawPath = ""
	if r.URL.RawPath != "" {
		out.URL.RawPath = "/" + strings.TrimPrefix(strings.TrimPrefix(r.URL.RawPath, prefix), "/")
	}
	return out
}
