package directory

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strings"
	"testing"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"sentier/internal/outbound"
	"sentier/internal/source"
)

// liar is a directory that answers searches as it is told to.
type liar struct {
	answer func(n int, search *ber.Packet) (entries []*ber.Packet, code int, cookie string, hang bool)
}

func (l liar) serve(t *testing.T) string {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go l.talk(c)
		}
	}()
	return "ldap://" + listener.Addr().String()
}

func (l liar) talk(c net.Conn) {
	defer c.Close()
	for n := 0; ; {
		in, err := ber.ReadPacket(c)
		if err != nil || len(in.Children) < 2 {
			return
		}
		id, _ := in.Children[0].Value.(int64)
		if in.Children[1].Tag != ldap.ApplicationSearchRequest {
			return
		}
		entries, code, cookie, hang := l.answer(n, in.Children[1])
		n++
		for _, e := range entries {
			if _, err := c.Write(envelope(id, e).Bytes()); err != nil {
				return
			}
		}
		if hang {
			return // in the middle of its answer
		}
		done := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchResultDone, nil, "")
		done.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, code, ""))
		done.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", ""))
		done.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, "", ""))
		out := envelope(id, done)
		if cookie != "" {
			paging := ldap.NewControlPaging(2)
			paging.SetCookie([]byte(cookie))
			controls := ber.Encode(ber.ClassContext, ber.TypeConstructed, 0, nil, "")
			controls.AppendChild(paging.Encode())
			out.AppendChild(controls)
		}
		if _, err := c.Write(out.Bytes()); err != nil {
			return
		}
	}
}

func envelope(id int64, op *ber.Packet) *ber.Packet {
	out := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	out.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
	out.AppendChild(op)
	return out
}

// entry is an entry as it is sent: pairs of an attribute and a value.
func entry(dn string, pairs ...string) *ber.Packet {
	out := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationSearchResultEntry, nil, "")
	out.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, dn, ""))
	all := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
	for i := 0; i < len(pairs); i += 2 {
		one := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "")
		one.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, pairs[i], ""))
		values := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSet, nil, "")
		for v := range strings.SplitSeq(pairs[i+1], "|") {
			values.AppendChild(ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, v, ""))
		}
		one.AppendChild(values)
		all.AppendChild(one)
	}
	out.AppendChild(all)
	return out
}

func somebody(n int) *ber.Packet {
	return entry(fmt.Sprintf("uid=p%d,ou=people", n), "entryUUID", fmt.Sprint("uuid-", n), "uid", fmt.Sprint("p", n), "cn", fmt.Sprint("P ", n))
}

func at(url string) Settings {
	return Settings{URL: url, People: Branch{Base: "ou=people"}, Groups: Branch{Base: "ou=groups"}, Seconds: 1}
}

// TestADirectoryThatDoesNotSayAll: what a directory says counts only where it has said all of it, once.
func TestADirectoryThatDoesNotSayAll(t *testing.T) {
	t.Parallel()
	many := func(from, to int) (out []*ber.Packet) {
		for i := from; i < to; i++ {
			out = append(out, somebody(i))
		}
		return out
	}
	for name, c := range map[string]struct {
		answer func(n int, search *ber.Packet) ([]*ber.Packet, int, string, bool)
		says   string
	}{
		"half of the people, and an error": {func(int, *ber.Packet) ([]*ber.Packet, int, string, bool) {
			return many(0, 5), ldap.LDAPResultBusy, "", false
		}, "did not say all of ou=people: Busy"},
		"size limit": {func(int, *ber.Packet) ([]*ber.Packet, int, string, bool) {
			return many(0, 5), ldap.LDAPResultSizeLimitExceeded, "", false
		}, "did not say all"},
		"gone in the middle":           {func(int, *ber.Packet) ([]*ber.Packet, int, string, bool) { return many(0, 5), 0, "", true }, "did not say all"},
		"the same page for ever":       {func(int, *ber.Packet) ([]*ber.Packet, int, string, bool) { return nil, 0, "more", false }, "the same page"},
		"a page that was there before": {func(int, *ber.Packet) ([]*ber.Packet, int, string, bool) { return many(0, 2), 0, "more", false }, "says uid=p0,ou=people twice"},
		"pages without an end": {func(n int, _ *ber.Packet) ([]*ber.Packet, int, string, bool) {
			time.Sleep(50 * time.Millisecond)
			return many(n, n+1), 0, fmt.Sprint(n), false
		}, "all of ou=people"},
		"never a word": {func(int, *ber.Packet) ([]*ber.Packet, int, string, bool) {
			time.Sleep(3 * time.Second)
			return nil, 0, "", true
		}, "did not say all"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			held, err := at(liar{c.answer}.serve(t)).Read(context.Background(), "")
			var told *outbound.Error
			if held != nil || !errors.As(err, &told) || !strings.Contains(err.Error(), c.says) {
				t.Errorf("%v, %v; want %q", held, err, c.says)
			}
		})
	}
}

// TestWhatIsReadOfEntries reads groups within groups, members in ranges, ids that are no text and names that are none.
func TestWhatIsReadOfEntries(t *testing.T) {
	t.Parallel()
	url := liar{func(n int, search *ber.Packet) ([]*ber.Packet, int, string, bool) {
		base, _ := search.Children[0].Value.(string)
		switch base {
		case "ou=people":
			return []*ber.Packet{somebody(1), somebody(2), somebody(3),
				entry("uid=binary,ou=people", "entryUUID", "\x01\x02\xff", "uid", "binary", "cn", strings.Repeat("x", 9000)),
				entry("uid=none,ou=people", "uid", "none")}, 0, "", false
		case "ou=groups":
			return []*ber.Packet{
				entry("cn=outer,ou=groups", "entryUUID", "g1", "cn", "outer", "member", "CN=Inner, OU=Groups|uid=P1,ou=people|uid=elsewhere,dc=other"),
				entry("cn=inner,ou=groups", "entryUUID", "g2", "cn", "inner", "member", "cn=outer,ou=groups|uid=p2,ou=people"),
				entry("cn=ranged,ou=groups", "entryUUID", "g3", "cn", "ranged", "member;range=0-1", "uid=p1,ou=people|uid=p2,ou=people"),
				entry("cn=by-id,ou=groups", "entryUUID", "g4", "cn", "by-id", "memberUid", "p3"),
				entry("cn=,ou=groups", "entryUUID", "g5"),
			}, 0, "", false
		}
		return []*ber.Packet{entry(base, "member;range=2-*", "uid=p3,ou=people")}, 0, "", false
	}}.serve(t)
	s := at(url)
	s.Groups.Member = "member,memberUid"
	held, err := s.Read(context.Background(), "")
	if err != nil {
		t.Fatal(err)
	}
	got := []string{}
	for _, g := range held.Groups {
		got = append(got, g.Name+": "+strings.Join(g.Members, " "))
	}
	want := "outer: uuid-1 uuid-2; inner: uuid-1 uuid-2; ranged: uuid-1 uuid-2 uuid-3; by-id: uuid-3"
	if strings.Join(got, "; ") != want {
		t.Errorf("groups %q\nwant %q", strings.Join(got, "; "), want)
	}
	told := fmt.Sprint(held.Told)
	for _, says := range []string{"uid=none,ou=people: has no entryUUID", "is in itself", "cn=,ou=groups: has no"} {
		if !strings.Contains(told, says) {
			t.Errorf("%q is not told: %s", says, told)
		}
	}
	if p := held.People[3]; p.Outside != "0102ff" || len(p.Name) != mostText {
		t.Errorf("the id %q, a name of %d bytes", p.Outside, len(p.Name))
	}
	if people, groups := held.Find("P", 2); len(people) != 2 || len(groups) != 0 {
		t.Errorf("found %v %v", people, groups)
	}
}

func TestSettingsAreChecked(t *testing.T) {
	t.Parallel()
	good := at("ldaps://directory.example")
	for _, c := range []struct {
		field  string
		change func(s *Settings)
	}{
		{"", func(*Settings) {}},
		{"url", func(s *Settings) { s.URL = "http://x" }},
		{"url", func(s *Settings) { s.URL = "ldaps://somebody:secret@x" }},
		{"url", func(s *Settings) { s.URL = "ldap://x/dc=x" }},
		{"schema", func(s *Settings) { s.Schema = "mine" }},
		{"authority", func(s *Settings) { s.Authority = "-----BEGIN" }},
		{"bind", func(s *Settings) { s.Bind, s.Secret = "reader", "x" }},
		{"secret", func(s *Settings) { s.Bind = "cn=reader" }},
		{"seconds", func(s *Settings) { s.Seconds = 9999 }},
		{"people.base", func(s *Settings) { s.People.Base = "" }},
		{"groups.base", func(s *Settings) { s.Groups.Base = "people" }},
		{"people.filter", func(s *Settings) { s.People.Filter = "uid=*" + ")" }},
	} {
		s := good
		c.change(&s)
		if field, problem := s.Check(); field != c.field {
			t.Errorf("want %q, got %q: %v", c.field, field, problem)
		}
	}
}

func TestAReaderWithoutTheSecretAsksNobody(t *testing.T) {
	r := Reader{outbound.Secrets{Folder: t.TempDir()}}
	if _, err := r.Read(context.Background(), source.Directory{URL: "ldap://127.0.0.1:1", Secret: "nowhere"}); err == nil || !strings.Contains(err.Error(), "no secret") {
		t.Errorf("read without its secret: %v", err)
	}
	if err := r.SignIn(context.Background(), source.Directory{URL: "ldap://127.0.0.1:1"}, "uid=p1", ""); !errors.Is(err, ErrPassword) {
		t.Errorf("an empty password is asked about: %v", err)
	}
}
