package acceptance

import (
	"net"
	"regexp"
	"strings"
	"testing"
	"time"

	"sentier/internal/daemon"
	"sentier/internal/mail"
	"sentier/internal/wire"
)

// withMail is a world whose letters go to a stand-in.
func withMail(t *testing.T) (*world, *mail.StandIn, net.Listener) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	stand := &mail.StandIn{}
	go stand.Serve(l) // ends with its listener
	sender, err := mail.ParseSMTP("smtp+plain://"+l.Addr().String(), "", "sentier@larkmere.example")
	if err != nil {
		t.Fatal(err)
	}
	return startWith(t, nil, func(o *daemon.Options) { o.Mail = sender }), stand, l
}

// TestLinksGoByMail: whoever invites does not see the link, who is invited has it and comes in by it; where no mail goes, it is handed over.
func TestLinksGoByMail(t *testing.T) {
	t.Parallel()
	w, stand, l := withMail(t)
	made := get[wire.Invitation](w, "POST", "/api/v1/users/greta.holm/invitation", "")
	if made.Link != "" || made.Sent != "greta.holm@larkmere.example" || made.Failed != "" {
		t.Fatalf("%+v", made)
	}
	letters := stand.Letters()
	if len(letters) != 1 || letters[0].To != "greta.holm@larkmere.example" || letters[0].Subject != "Your way into Sentier" {
		t.Fatalf("%+v", letters)
	}
	secret := regexp.MustCompile(regexp.QuoteMeta(w.url+"/welcome#") + `(sentier_[A-Za-z0-9_-]+)`).FindStringSubmatch(letters[0].Text)
	if secret == nil {
		t.Fatalf("no link in %q", letters[0].Text)
	}
	if status, _, body := w.ask("POST", "/api/v1/welcome", "", `{"link":"`+secret[1]+`","password":"towpath and heron","terminal":true}`); status != 200 {
		t.Errorf("by the link of the letter: %d %s", status, body)
	}
	b := w.consoleAt("/records/users/agnes.lindqvist")
	b.click("Make a link")
	b.click("Make the link")
	b.see("The link was sent to agnes.lindqvist@larkmere.example")
	b.accessible("a link that was sent")

	// A request is told to those who may answer it, in their language, and not without end.
	who := w.as("tomas.field")
	until := get[wire.Session](w, "GET", "/api/v1/session", "").Now.Add(5 * time.Hour).UTC().Format(time.RFC3339)
	who.must("POST", "/api/v1/requests", `{"right":"control","device":"Mill bridge","until":"`+until+`","reason":"to let the barge through"}`)
	var told []mail.Letter
	for range 200 {
		if told = stand.Letters()[2:]; len(told) >= 2 {
			break
		}
		time.Sleep(25 * time.Millisecond)
	}
	if len(told) != 2 {
		t.Fatalf("%d are told of a request", len(told))
	}
	for _, x := range told {
		if x.Subject != "Tomas Field asks for something" || !strings.Contains(x.Text, "to let the barge through") || !strings.Contains(x.Text, w.url+"/today") {
			t.Errorf("a request is told as %+v", x)
		}
	}

	// Nobody takes letters: the link is shown, with why.
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	made = get[wire.Invitation](w, "POST", "/api/v1/users/maya.winter/invitation", "")
	if made.Link == "" || made.Sent != "" || made.Failed == "" {
		t.Errorf("where no mail goes: %+v", made)
	}
}

// TestAServerOfMailIsReadStrictly: what is no address of one, and no sender, is told with the mend.
func TestAServerOfMailIsReadStrictly(t *testing.T) {
	t.Parallel()
	for address, want := range map[string]string{"": "no address", "mail.example": "no address", "http://mail.example": "write smtp, smtps or smtp+plain", "smtp://mail.example:x": "no address", "smtp://mail.example": "", "smtps://user@mail.example:465": ""} {
		_, err := mail.ParseSMTP(address, "secret", "sentier@larkmere.example")
		if want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("%q: %v, want …%s…", address, err, want)
		}
		if err != nil && strings.Contains(err.Error(), "secret") {
			t.Errorf("%q: the password is told: %v", address, err)
		}
	}
	for _, from := range []string{"", "nobody"} {
		if _, err := mail.ParseSMTP("smtp://mail.example", "", from); err == nil {
			t.Errorf("%q is taken for a sender", from)
		}
	}
}
