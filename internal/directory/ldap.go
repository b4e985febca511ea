// Package directory reads people and groups from an organisation's directory by LDAP version 3 (RFC 4511), and lets people prove to it who they are. It only
// ever reads.
package directory

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/go-ldap/ldap/v3"

	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/source"
)

// Settings say where a directory is, and how it keeps people and groups.
type Settings source.Directory

// Branch is where some entries stand, and what of them is read.
type Branch = source.Branch

// schemas are how people and groups are commonly kept.
var schemas = map[string][2]Branch{
	"group-of-names": {
		{Filter: "(objectClass=inetOrgPerson)", Outside: "entryUUID", ID: "uid", Name: "displayName,cn", Email: "mail"},
		{Filter: "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))", Outside: "entryUUID", Name: "cn", Member: "member,uniqueMember"},
	},
	"rfc2307": {
		{Filter: "(objectClass=posixAccount)", Outside: "entryUUID", ID: "uid", Name: "displayName,gecos,cn", Email: "mail"},
		{Filter: "(objectClass=posixGroup)", Outside: "entryUUID", Name: "cn", Member: "memberUid"},
	},
	"rfc2307bis": {
		{Filter: "(objectClass=posixAccount)", Outside: "entryUUID", ID: "uid", Name: "displayName,gecos,cn", Email: "mail"},
		{Filter: "(|(objectClass=posixGroup)(objectClass=groupOfNames)(objectClass=groupOfMembers))", Outside: "entryUUID", Name: "cn", Member: "member,memberUid"},
	},
	"in-chain": {
		{Filter: "(&(objectCategory=person)(objectClass=user)(!(userAccountControl:1.2.840.113556.1.4.803:=2)))", Outside: "objectGUID", ID: "sAMAccountName", Name: "displayName,cn", Email: "mail"},
		{Filter: "(objectClass=group)", Outside: "objectGUID", Name: "cn", Member: "member"},
	},
}

// Reader reads directories with the secrets of this machine. It may be used from many goroutines at once.
type Reader struct{ outbound.Secrets }

// Read reads all people and groups of a directory; see [Settings.Read].
func (r Reader) Read(ctx context.Context, from source.Directory) (*source.Held, error) {
	secret, err := r.Secret(from.Secret)
	if err != nil {
		return nil, err
	}
	return Settings(from).Read(ctx, secret)
}

// SignIn tells whether a password is that of an entry; see [Settings.Prove].
func (r Reader) SignIn(ctx context.Context, at source.Directory, place, password string) error {
	return Settings(at).Prove(ctx, place, password)
}

// DefaultSchema is that of a directory of which none is said.
const DefaultSchema = "group-of-names"

// Bounds of what is read.
const (
	mostEntries = 500_000 // people, and as many groups
	mostMembers = 4_000_000
	mostText    = 4096 // bytes of a value that is a name, an id or an address
	pageSize    = 500
	defaultTime = 60 * time.Second
	mostSeconds = 600
	dialTime    = 10 * time.Second
)

// Full are the settings with what the schema says where they say nothing.
func (s Settings) Full() Settings {
	if s.Schema == "" {
		s.Schema = DefaultSchema
	}
	of := schemas[s.Schema]
	fill(&s.People, of[0])
	fill(&s.Groups, of[1])
	return s
}

func fill(b *Branch, from Branch) {
	for _, field := range []struct{ into, from *string }{{&b.Filter, &from.Filter}, {&b.Outside, &from.Outside}, {&b.ID, &from.ID}, {&b.Name, &from.Name}, {&b.Email, &from.Email}, {&b.Member, &from.Member}} {
		if *field.into == "" {
			*field.into = *field.from
		}
	}
}

// Check finds what is wrong with settings, and in which field.
func (s Settings) Check() (field string, problem *policy.Said) {
	wrong := func(field, form string, args ...any) (string, *policy.Said) {
		said := policy.Say(form, args...)
		return field, &said
	}
	at, err := url.Parse(s.URL)
	switch {
	case err != nil || at.Host == "":
		return wrong("url", "%q is no address of a directory: write ldaps://host, or ldap://host", s.URL)
	case at.Scheme != "ldap" && at.Scheme != "ldaps":
		return wrong("url", "%q is no way to a directory: write ldaps, or ldap", at.Scheme)
	case at.User != nil || strings.Trim(at.Path, "/") != "" || at.RawQuery != "":
		return wrong("url", "holds more than a host and a port: the rest has fields of its own")
	}
	if _, ok := schemas[s.Schema]; s.Schema != "" && !ok {
		return wrong("schema", "%q is none of group-of-names, rfc2307, rfc2307bis and in-chain", s.Schema)
	}
	if problem := outbound.CheckAuthority(s.Authority); problem != nil {
		return "authority", problem
	}
	if s.Bind != "" {
		if _, err := ldap.ParseDN(s.Bind); err != nil {
			return wrong("bind", "%q is no distinguished name: write cn=reader,dc=example", s.Bind)
		}
		if s.Secret == "" {
			return wrong("secret", "is missing: with a name to read as goes a secret with its password")
		}
	}
	if s.Seconds < 0 || s.Seconds > mostSeconds {
		return wrong("seconds", "%d is out of range: %d to %d", s.Seconds, 0, mostSeconds)
	}
	full := s.Full()
	for name, b := range map[string]Branch{"people": full.People, "groups": full.Groups} {
		if b.Base == "" {
			return wrong(name+".base", "is missing: say under which branch they stand, such as ou=%s,dc=example", name)
		}
		if _, err := ldap.ParseDN(b.Base); err != nil {
			return wrong(name+".base", "%q is no distinguished name: write ou=%s,dc=example", b.Base, name)
		}
		if _, err := ldap.CompileFilter(b.Filter); err != nil {
			return wrong(name+".filter", "%q cannot be read: write (objectClass=…), with brackets around it", b.Filter)
		}
	}
	return "", nil
}

func fault(err error, form string, args ...any) error { return outbound.Fault(err, form, args...) }

// reason is why a directory said no, in its own words and bounded.
func reason(err error) string {
	var e *ldap.Error
	if errors.As(err, &e) {
		text := ldap.LDAPResultCodeMap[e.ResultCode]
		if e.Err != nil && e.ResultCode == ldap.ErrorNetwork {
			text = e.Err.Error()
		}
		return clean(fmt.Sprintf("%s (%d)", text, e.ResultCode))
	}
	return clean(err.Error())
}

// clean is what the directory has written, for a sentence of ours.
func clean(text string) string { return outbound.Clean(text, 200) }

// conn is a connection to a directory, as somebody.
type conn struct {
	*ldap.Conn
	end time.Time
}

// dial connects to the directory, encrypted but on this very machine.
func (s Settings) dial(ctx context.Context) (*conn, error) {
	at, err := url.Parse(s.URL)
	if err != nil {
		return nil, fault(err, "%q is no address of a directory", s.URL)
	}
	limit := defaultTime
	if s.Seconds > 0 {
		limit = time.Duration(s.Seconds) * time.Second
	}
	end := time.Now().Add(limit)
	if asked, ok := ctx.Deadline(); ok && asked.Before(end) {
		end = asked
	}
	dialer := &net.Dialer{Timeout: min(dialTime, time.Until(end)), Deadline: end}
	config := outbound.TLS(s.Authority)
	config.ServerName = at.Hostname()
	c, err := ldap.DialURL(s.URL, ldap.DialWithDialer(dialer), ldap.DialWithTLSConfig(config))
	if err != nil {
		return nil, fault(err, "the directory at %s cannot be reached: %s", at.Host, reason(err))
	}
	c.SetTimeout(time.Until(end))
	if at.Scheme == "ldap" && (s.Authority != "" || !outbound.Loopback(at.Hostname())) {
		if err := c.StartTLS(config); err != nil {
			_ = c.Close() // nothing was said yet
			return nil, fault(err, "the connection to %s cannot be encrypted, and nothing was said over it: %s", at.Host, reason(err))
		}
	}
	return &conn{c, end}, nil
}

// open connects to the directory and says as whom it is read.
func (s Settings) open(ctx context.Context, secret string) (*conn, error) {
	c, err := s.dial(ctx)
	if err != nil {
		return nil, err
	}
	if s.Bind != "" {
		if secret == "" { // which some directories take for nobody, and answer
			_ = c.Close()
			return nil, fault(nil, "the secret %q is empty", s.Secret)
		}
		if err := c.Bind(s.Bind, secret); err != nil {
			_ = c.Close()
			return nil, fault(err, "the directory does not let %s in: %s", s.Bind, reason(err))
		}
	}
	return c, nil
}

// Prove tells whether a password is that of the entry at a place. The error is nil where it is, [ErrPassword] where it is not.
func (s Settings) Prove(ctx context.Context, place, password string) error {
	if password == "" || place == "" { // which some directories take for nobody, and answer
		return ErrPassword
	}
	c, err := s.Full().dial(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	err = c.Bind(place, password)
	switch {
	case err == nil:
		return nil
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultInvalidCredentials, ldap.LDAPResultNoSuchObject, ldap.LDAPResultInvalidDNSyntax, ldap.LDAPResultInappropriateAuthentication, ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultConstraintViolation):
		return ErrPassword
	}
	return fault(err, "the directory could not look at the password: %s", reason(err))
}

// ErrPassword is that a password is not that of an entry.
var ErrPassword = errors.New("the password is not that of the entry")

// search reads all entries under a branch, page by page (RFC 2696), and hands each on once. A directory that says less than all of it is no directory that
// was read.
func (c *conn) search(b Branch, filter string, attributes []string, each func(*ldap.Entry) error) error {
	paging := ldap.NewControlPaging(pageSize)
	seen := map[string]bool{}
	for {
		left := time.Until(c.end)
		if left <= 0 {
			return fault(context.DeadlineExceeded, "the directory takes too long: it has not said all of %s", b.Base)
		}
		request := ldap.NewSearchRequest(b.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, int(left/time.Second)+1, false, filter, attributes, []ldap.Control{paging})
		got, err := c.Search(request)
		if err != nil {
			return fault(err, "the directory did not say all of %s: %s", b.Base, reason(err))
		}
		for _, e := range got.Entries {
			at := strings.ToLower(e.DN)
			if seen[at] {
				return fault(nil, "the directory says %s twice: what it says by pages is not to be trusted", clean(e.DN))
			}
			if seen[at] = true; len(seen) > mostEntries {
				return fault(nil, "the directory has more than %d entries under %s: narrow the branch or the filter", mostEntries, b.Base)
			}
			if err := each(e); err != nil {
				return err
			}
		}
		next, ok := ldap.FindControl(got.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
		if !ok || len(next.Cookie) == 0 {
			return nil
		}
		if bytes.Equal(next.Cookie, paging.Cookie) && len(got.Entries) == 0 {
			return fault(nil, "the directory gives the same page of %s again and again", b.Base)
		}
		paging.SetCookie(next.Cookie)
	}
}

// first is the first value of the first of some attributes that is there; bounded, and never half a letter.
func first(e *ldap.Entry, names string) string {
	for name := range strings.SplitSeq(names, ",") {
		for _, v := range e.GetEqualFoldAttributeValues(strings.TrimSpace(name)) {
			if v = strings.TrimSpace(v); v != "" {
				if len(v) > mostText {
					v = v[:mostText]
				}
				return strings.ToValidUTF8(v, "�")
			}
		}
	}
	return ""
}

// outside is the id of an entry that stays: as it is written, or in hexadecimal where it is no text.
func outside(e *ldap.Entry, name string) string {
	raw := e.GetEqualFoldRawAttributeValue(name)
	if len(raw) == 0 || len(raw) > mostText {
		return ""
	}
	if !utf8.Valid(raw) || bytes.ContainsFunc(raw, func(r rune) bool { return r < ' ' }) {
		return hex.EncodeToString(raw)
	}
	return string(raw)
}

// attributes are the names of some, apart by commas, each once.
func attributes(lists ...string) (out []string) {
	for _, list := range lists {
		for name := range strings.SplitSeq(list, ",") {
			if name = strings.TrimSpace(name); name != "" {
				out = append(out, name)
			}
		}
	}
	return out
}
