package client_test

import (
	"bytes"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"sentier/internal/client"
	"sentier/internal/wire"
)

// service answers every request with the same, and keeps what it was asked.
type service struct {
	*httptest.Server
	asked  *http.Request
	body   string
	status int
	media  string
	answer string
}

func serve(t *testing.T) *service {
	s := &service{status: 200, media: "application/json", answer: `{"user":{"id":"tomas.field"}}`}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		data, err := io.ReadAll(r.Body)
		if err != nil {
			t.Error(err)
		}
		s.asked, s.body = r, string(data)
		w.Header().Set("Content-Type", s.media)
		w.Header().Set("ETag", `"7"`)
		w.WriteHeader(s.status)
		io.WriteString(w, s.answer)
	}))
	t.Cleanup(s.Close)
	return s
}

func TestWhatIsSent(t *testing.T) {
	s := serve(t)
	plain := &client.Client{Base: s.URL + "/", Token: "sentier_x", Language: "fr"}
	for name, c := range map[string]struct {
		with            *client.Client
		in              any
		media, body     string
		match, key, tok string
	}{
		"nothing":           {plain, nil, "", "", "", "", "Bearer sentier_x"},
		"JSON":              {plain, map[string]int{"n": 1}, "application/json", `{"n":1}`, "", "", "Bearer sentier_x"},
		"another type":      {plain, client.Body{Type: "text/csv", Data: []byte("id\n")}, "text/csv", "id\n", "", "", "Bearer sentier_x"},
		"at a revision":     {plain.If(12), nil, "", "", `"12"`, "", "Bearer sentier_x"},
		"at a tag":          {plain.IfTag(`"abc"`), nil, "", "", `"abc"`, "", "Bearer sentier_x"},
		"with a key":        {plain.Keyed("once"), nil, "", "", "", "once", "Bearer sentier_x"},
		"no token":          {&client.Client{Base: s.URL}, nil, "", "", "", "", ""},
		"all kept together": {plain.If(3).Keyed("k"), nil, "", "", `"3"`, "k", "Bearer sentier_x"},
	} {
		t.Run(name, func(t *testing.T) {
			tag, err := c.with.DoTagged(t.Context(), "PUT", "/api/v1/users/x", url.Values{"dry_run": {"true"}}, c.in, nil)
			if err != nil || tag != `"7"` {
				t.Fatalf("tag %s, %v", tag, err)
			}
			h := s.asked.Header
			for what, pair := range map[string][2]string{
				"path": {s.asked.URL.String(), "/api/v1/users/x?dry_run=true"}, "body": {s.body, c.body}, "type": {h.Get("Content-Type"), c.media},
				"If-Match": {h.Get("If-Match"), c.match}, "Idempotency-Key": {h.Get("Idempotency-Key"), c.key}, "token": {h.Get("Authorization"), c.tok},
				"language": {h.Get("Accept-Language"), c.with.Language},
			} {
				if pair[0] != pair[1] {
					t.Errorf("%s is %q, want %q", what, pair[0], pair[1])
				}
			}
		})
	}
}

func TestWhatComesBack(t *testing.T) {
	s := serve(t)
	c := &client.Client{Base: s.URL}
	var session wire.Session
	var raw []byte
	var out bytes.Buffer
	for _, into := range []any{&session, &raw, &out, nil} {
		if err := c.Do(t.Context(), "GET", "/x", nil, nil, into); err != nil {
			t.Fatal(err)
		}
	}
	if session.User.ID != "tomas.field" || string(raw) != s.answer || out.String() != s.answer {
		t.Errorf("read %+v, %s and %s", session, raw, out.String())
	}
	for name, x := range map[string]struct {
		status              int
		media, answer, want string
		problem             bool
	}{
		"a problem":                       {404, "application/problem+json", `{"status":404,"detail":"there is no such thing"}`, "there is no such thing", true},
		"faults with places":              {422, "application/problem+json; charset=utf-8", `{"detail":"It holds faults.","faults":[{"path":"name","problem":"is missing","line":3,"column":5},{"path":"id","problem":"is taken"}]}`, "It holds faults:\n  3:5 name: is missing\n  id: is taken", true},
		"a gateway's page":                {502, "text/html", "<html>", "502 Bad Gateway", true},
		"a problem that is no JSON":       {500, "application/problem+json", "{", "cannot be read", false},
		"an answer that is no JSON":       {200, "application/json", "<html>", "cannot be read", false},
		"a refusal where a file is asked": {403, "application/problem+json", `{"detail":"you may not do this"}`, "you may not do this", true},
	} {
		t.Run(name, func(t *testing.T) {
			s.status, s.media, s.answer = x.status, x.media, x.answer
			var into any = &session
			if strings.Contains(name, "file") {
				out.Reset()
				into = &out
			}
			err := c.Do(t.Context(), "GET", "/x", nil, nil, into)
			var problem *client.Error
			if err == nil || !strings.Contains(err.Error(), x.want) || errors.As(err, &problem) != x.problem {
				t.Errorf("%v (a problem: %t), want %q", err, errors.As(err, &problem), x.want)
			}
			if out.Len() > 0 && x.status >= 300 && into == any(&out) {
				t.Errorf("a refusal was written into the file: %s", out.String())
			}
		})
	}
	s.Close()
	if err := c.Do(t.Context(), "GET", "/x", nil, nil, nil); err == nil || !strings.Contains(err.Error(), "sentier serve") {
		t.Errorf("nobody there: %v", err)
	}
}
