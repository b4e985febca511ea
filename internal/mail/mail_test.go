package mail

import (
	"net"
	"strings"
	"testing"
	"time"
)

// TestLettersArriveAsTheyWereWritten: letters of every alphabet, long links whole, and nothing of what somebody is called becomes a head of its own.
func TestLettersArriveAsTheyWereWritten(t *testing.T) {
	address, stand := standIn(t)
	s, err := ParseSMTP("smtp+plain://"+address, "", "sentier@larkmere.example")
	if err != nil {
		t.Fatal(err)
	}
	link := "http://127.0.0.1:7480/welcome#sentier_" + strings.Repeat("aB3_-", 40)
	for _, l := range []Letter{
		{"greta.holm@larkmere.example", "Greta Holm", "Your way into Sentier", "Good day.\n\n" + link + "\n"},
		{"ines.carvalho@larkmere.example", "Inês Carvalho", "Une demande de Tomás : écluse nº 3 – « déjà »", "À l’attention d’Inês.\n=3D is not an escape, and neither is a line of\n.\nalone.\n"},
		{"tomas.field@larkmere.example", "Tomas\r\nBcc: everybody@larkmere.example", "One\r\nBcc: everybody@larkmere.example", "x\n"},
	} {
		if err := s.Send(t.Context(), l); err != nil {
			if strings.Contains(l.Name, "\n") {
				continue // refused is as good
			}
			t.Fatal(err)
		}
		got := stand.Letters()
		last := got[len(got)-1]
		if last.To != l.To || last.Text != l.Text || last.Subject != strings.Join(strings.Fields(l.Subject), " ") && !strings.Contains(l.Subject, "\r") {
			t.Errorf("%+v\nwas taken as\n%+v", l, last)
		}
	}
	for _, l := range stand.Letters() {
		if strings.HasPrefix(l.To, "everybody") {
			t.Errorf("a name has an addressee of its own: %+v", l)
		}
	}
}

// TestParseSMTP says what is wrong with an address before anything is sent.
func TestParseSMTP(t *testing.T) {
	for _, c := range []struct{ address, from, want string }{
		{"smtp://mail.example", "sentier@larkmere.example", ""},
		{"smtps://sentier@mail.example:4650", "sentier@larkmere.example", ""},
		{"mail.example:25", "sentier@larkmere.example", "write it as smtp://"},
		{"", "sentier@larkmere.example", "write it as smtp://"},
		{"http://mail.example", "sentier@larkmere.example", `"http" is no way to a server of mail`},
		{"smtp://mail.example:587000", "sentier@larkmere.example", "port"},
		{"smtp://mail.example", "", "--mail-from"},
		{"smtp://mail.example", "nobody at all", "is no sender"},
	} {
		_, err := ParseSMTP(c.address, "secret", c.from)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want) || strings.Contains(err.Error(), "secret")) {
			t.Errorf("%q from %q: %v, want …%s…", c.address, c.from, err, c.want)
		}
	}
}

// TestALetterThatCannotBeSentIsTold: without TLS where it is required, to nobody, and to a server that never answers.
func TestALetterThatCannotBeSentIsTold(t *testing.T) {
	address, stand := standIn(t)
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	for name, c := range map[string]struct{ address, to string }{
		"no TLS":             {"smtp://" + address, "greta.holm@larkmere.example"},
		"TLS to who has not": {"smtps://" + address, "greta.holm@larkmere.example"},
		"nobody":             {"smtp+plain://" + address, ""},
		"who never answers":  {"smtp+plain://" + silent.Addr().String(), "greta.holm@larkmere.example"},
	} {
		s, err := parse(c.address, "", "sentier@larkmere.example", time.Second)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.Send(t.Context(), Letter{c.to, "Greta Holm", "x", "x"}); err == nil {
			t.Errorf("%s: it was sent", name)
		}
	}
	if n := len(stand.Letters()); n > 0 {
		t.Errorf("%d letters were taken", n)
	}
}

// standIn is a stand-in that takes letters until the test ends.
func standIn(t *testing.T) (address string, s *StandIn) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	s = &StandIn{}
	go s.Serve(l) // ends with its listener
	return l.Addr().String(), s
}
