package server

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	quickjson "github.com/go-json-experiment/json"

	"sentier/internal/wire"
)

// TestWhereARequestCameFrom: what a header says counts only where a trusted proxy says it, and only up to the nearest address
// that is none of theirs.
func TestWhereARequestCameFrom(t *testing.T) {
	s := &Server{trusted: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8"), netip.MustParsePrefix("10.1.0.0/16"), netip.MustParsePrefix("fd00::/8")}}
	for name, c := range map[string]struct {
		peer    string
		headers []string
		address string
		secure  bool
	}{
		"nothing is said":                 {"127.0.0.1:9", nil, "127.0.0.1", false},
		"by whom nobody trusts":           {"192.0.2.9:9", []string{"X-Forwarded-For", "198.51.100.1", "X-Forwarded-Proto", "https"}, "192.0.2.9", false},
		"by one proxy":                    {"127.0.0.1:9", []string{"X-Forwarded-For", "198.51.100.1", "X-Forwarded-Proto", "https"}, "198.51.100.1", true},
		"a client's own word before it":   {"127.0.0.1:9", []string{"X-Forwarded-For", "203.0.113.5, 198.51.100.1"}, "198.51.100.1", false},
		"in two headers":                  {"127.0.0.1:9", []string{"X-Forwarded-For", "203.0.113.5", "X-Forwarded-For", "198.51.100.1"}, "198.51.100.1", false},
		"by two proxies":                  {"127.0.0.1:9", []string{"X-Forwarded-For", "198.51.100.1, 10.1.2.3", "X-Forwarded-Proto", "https, http"}, "198.51.100.1", true},
		"all of them trusted":             {"127.0.0.1:9", []string{"X-Forwarded-For", "10.1.0.7, 10.1.2.3"}, "10.1.0.7", false},
		"with a port":                     {"127.0.0.1:9", []string{"X-Forwarded-For", "198.51.100.1:4711"}, "198.51.100.1", false},
		"IPv6 with a port":                {"[fd00::1]:9", []string{"X-Forwarded-For", "[2001:db8::5]:4711"}, "2001:db8::5", false},
		"a mapped peer":                   {"[::ffff:127.0.0.1]:9", []string{"X-Forwarded-For", "198.51.100.1"}, "198.51.100.1", false},
		"what is no address":              {"127.0.0.1:9", []string{"X-Forwarded-For", "somebody"}, "127.0.0.1", false},
		"by the standard's header":        {"127.0.0.1:9", []string{"Forwarded", `for="[2001:db8::5]:80";proto=https`}, "2001:db8::5", true},
		"which goes before the other":     {"127.0.0.1:9", []string{"Forwarded", "For=198.51.100.7;Proto=HTTPS", "X-Forwarded-For", "203.0.113.5"}, "198.51.100.7", true},
		"hidden behind a name":            {"127.0.0.1:9", []string{"Forwarded", "for=_gate;proto=https"}, "127.0.0.1", true},
		"two of the standard's in a row":  {"127.0.0.1:9", []string{"Forwarded", "for=203.0.113.5;proto=http, for=198.51.100.7;proto=https"}, "198.51.100.7", true},
		"a proxy that says only by what":  {"127.0.0.1:9", []string{"X-Forwarded-Proto", "https"}, "127.0.0.1", true},
		"a peer whose port is not known":  {"192.0.2.9", nil, "192.0.2.9", false},
		"nothing between commas":          {"127.0.0.1:9", []string{"X-Forwarded-For", ",,"}, "127.0.0.1", false},
		"a quote that is never closed":    {"127.0.0.1:9", []string{"Forwarded", `for="198.51.100.7`}, "198.51.100.7", false},
		"an element that is no pair":      {"127.0.0.1:9", []string{"Forwarded", ";;=;for"}, "127.0.0.1", false},
		"a zone, which is of one machine": {"[fe80::1%eth0]:9", []string{"X-Forwarded-For", "198.51.100.1"}, "fe80::1%eth0", false},
	} {
		r := httptest.NewRequest("GET", "/", nil)
		r.RemoteAddr = c.peer
		for i := 0; i < len(c.headers); i += 2 {
			r.Header.Add(c.headers[i], c.headers[i+1])
		}
		if got := s.originOf(r); got.address != c.address || got.secure != c.secure {
			t.Errorf("%s: %+v, want %s, secure %v", name, got, c.address, c.secure)
		}
	}
}

// FuzzForwarded: whatever headers say, an address that is told is one, or the peer's.
func FuzzForwarded(f *testing.F) {
	f.Add(`for="[2001:db8::5]:80";proto=https, for=_x`, "198.51.100.1, 10.1.2.3:80")
	f.Add(`for=";=,;`, "[[::1]]:x")
	s := &Server{trusted: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}
	f.Fuzz(func(t *testing.T, standard, other string) {
		for name, value := range map[string]string{"Forwarded": standard, "X-Forwarded-For": other} {
			r := httptest.NewRequest("GET", "/", nil)
			r.RemoteAddr = "127.0.0.1:1"
			r.Header.Set(name, value)
			if _, err := netip.ParseAddr(s.originOf(r).address); err != nil {
				t.Errorf("%s %q: %v", name, value, err)
			}
		}
	})
}

func TestPublicAddresses(t *testing.T) {
	for text, want := range map[string]string{
		"https://sentier.example": "https://sentier.example", "https://sentier.example/": "https://sentier.example", "http://127.0.0.1:7480/below/it/": "http://127.0.0.1:7480/below/it",
		"sentier.example": "", "ftp://sentier.example": "", "https://": "", "https://a@sentier.example": "", "https://sentier.example?x=1": "", "https://sentier.example/#x": "", "https://[": "",
	} {
		u, err := ParsePublicURL(text)
		if got := ""; err == nil {
			if got = u.String(); got != want {
				t.Errorf("%s is read as %s, want %s", text, got, want)
			}
		} else if want != "" {
			t.Errorf("%s: %v", text, err)
		}
	}
}

// TestBelowAPath: a proxy may leave the path in which the service lies, or take it away.
func TestBelowAPath(t *testing.T) {
	s := &Server{public: &url.URL{Scheme: "https", Host: "larkmere.example", Path: "/desk"}}
	for path, want := range map[string]string{
		"/desk/api/v1/users": "/api/v1/users", "/api/v1/users": "/api/v1/users", "/desk": "/", "/desk/": "/", "/desktop": "/desktop",
		"/desk/api/v1/users/al%2Bx%40y.z": "/api/v1/users/al%2Bx%40y.z",
	} {
		r := s.withoutPrefix(httptest.NewRequest("GET", path, nil))
		if got := r.URL.EscapedPath(); got != want {
			t.Errorf("%s is taken for %s, want %s", path, got, want)
		}
	}
}

// TestRefusalsArePaced: some are given at once, more wait for a time of their own, and after a while of quiet they come at once again.
func TestRefusalsArePaced(t *testing.T) {
	p, now := &pace{}, time.Unix(1000, 0)
	free, longest := 0, time.Duration(0)
	for range 2000 {
		wait := p.wait(now)
		if wait <= 0 {
			free++
		}
		longest = max(longest, wait)
	}
	if want := int(refusalBurst/refusalTime) + 1; free != want {
		t.Errorf("%d of 2,000 refusals were given at once, want %d", free, want)
	}
	if longest > refusalsAhead*3/2 {
		t.Errorf("one waits for %v", longest)
	}
	if wait := p.wait(now.Add(refusalBurst + refusalsAhead + time.Second)); wait > 0 {
		t.Errorf("after a while of quiet a refusal waits for %v", wait)
	}
}

// TestRooms: as many as there is room for, and no user more than their share; what is given back is free again.
func TestRooms(t *testing.T) {
	var busy *busyError
	callers := newCallerRoom()
	var leave []func()
	for range 3 {
		out, err := callers.enter("ana", 3)
		if err != nil {
			t.Fatal(err)
		}
		leave = append(leave, out)
	}
	if _, err := callers.enter("ana", 3); !errors.As(err, &busy) {
		t.Errorf("a fourth request of one user: %v", err)
	}
	other, err := callers.enter("ben", 3)
	if err != nil {
		t.Errorf("somebody else: %v", err)
	}
	other()
	leave[0]()
	if out, err := callers.enter("ana", 3); err != nil {
		t.Errorf("after one has gone: %v", err)
	} else {
		leave[0] = out
	}
	for _, out := range leave {
		out()
	}
	if len(callers.each) != 0 || len(callers.all) != 0 {
		t.Errorf("of users who have nothing going on is kept: %v", callers.each)
	}

	heavy := heavyRoom{working: make(room, 1), waiting: make(room, 1)}
	out, err := heavy.enter(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	gone, cancel := context.WithCancel(t.Context())
	waits := make(chan error)
	go func() {
		_, err := heavy.enter(gone)
		waits <- err
	}()
	for len(heavy.waiting) == 0 {
		time.Sleep(time.Millisecond)
	}
	if _, err := heavy.enter(t.Context()); !errors.As(err, &busy) || busy.after < time.Second {
		t.Errorf("one more than may wait: %v", err)
	}
	cancel()
	if err := <-waits; !errors.As(err, &busy) {
		t.Errorf("whoever went away while waiting: %v", err)
	}
	out()
	if out, err = heavy.enter(t.Context()); err != nil {
		t.Errorf("with room again: %v", err)
	}
	out()

	var others lastAsked
	large := heavyRoom{make(room, 1), make(room, 1), make(room, 1), &others}
	first, _ := large.enter(t.Context())
	second, err := large.enter(t.Context())
	if err != nil {
		t.Fatalf("a second while nobody else asks: %v", err)
	}
	first()
	second()
	others.note(time.Now())
	first, _ = large.enter(t.Context())
	gone, cancel = context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	if _, err := large.enter(gone); !errors.As(err, &busy) {
		t.Errorf("a second right after somebody has asked: %v", err)
	}
	first()
}

// TestBytesAreCountedAsTheyCome: bodies beyond what there is room for are told to come again, and give back what they had.
func TestBytesAreCountedAsTheyCome(t *testing.T) {
	var r byteRoom
	r.free.Store(3 * fewBytes)
	first := &counted{Reader: strings.NewReader(strings.Repeat("x", 3*fewBytes)), room: &r}
	if n, err := io.Copy(io.Discard, first); err != nil || n != 3*fewBytes || first.held != 2*fewBytes {
		t.Errorf("%d bytes, %v; %d are held", n, err, first.held)
	}
	second := &counted{Reader: strings.NewReader(strings.Repeat("x", 4*fewBytes)), room: &r}
	var busy *busyError
	if _, err := io.Copy(io.Discard, second); !errors.As(err, &busy) {
		t.Errorf("beyond the room: %v", err)
	}
	r.free.Add(first.held + second.held)
	if got := r.free.Load(); got != 3*fewBytes {
		t.Errorf("%d bytes are free after all, want %d", got, 3*fewBytes)
	}
	small := &counted{Reader: strings.NewReader("few"), room: &byteRoom{}}
	if _, err := io.Copy(io.Discard, small); err != nil {
		t.Errorf("a small body without any room: %v", err)
	}
}

// TestSteadyIsBounded: what comes steadily has the more time the more has come, and never more than a heavy request has in all.
func TestSteadyIsBounded(t *testing.T) {
	begun := time.Unix(1000, 0)
	for gone, want := range map[int64]time.Duration{0: headerTime, 10 * leastRate: headerTime + 10*time.Second, 1 << 40: heavyTime} {
		if got := steadily(begun, headerTime, gone).Sub(begun); got != want {
			t.Errorf("after %d bytes the next may come within %v, want %v", gone, got, want)
		}
	}
}

func TestEntityTags(t *testing.T) {
	for text, want := range map[string]string{
		`"5"`: `"5"`, `W/"5"`: `"5"`, `"5;gzip"`: `"5"`, `"1", "2" , W/"3;gzip"`: `"1" "2" "3"`, " , ": "", "*": "*", "": "",
	} {
		if got := strings.Join(tags([]string{text}), " "); got != want {
			t.Errorf("%s is read as %s, want %s", text, got, want)
		}
	}
	if !tagListed([]string{`"1"`, "*"}, `"7"`) || tagListed([]string{`"1", "2"`}, `"7"`) || tagListed(nil, `"7"`) {
		t.Error("a tag is found where it is not, or not where it is")
	}
	for d, want := range map[time.Duration]string{0: "1", time.Millisecond: "1", time.Second: "1", 1001 * time.Millisecond: "2", time.Minute: "60"} {
		if got := retryAfter(d); got != want {
			t.Errorf("%v is told as %s", d, got)
		}
	}
	for method, want := range map[string]string{"GET": "GET", "PATCH": "PATCH", "M17": "other", "get": "other", http.MethodTrace: "other"} {
		if got := methodLabel(method); got != want {
			t.Errorf("the method %s is counted as %s, want %s", method, got, want)
		}
	}
}

// evaluations are from which hostile ones are made.
var evaluations = []string{
	`{"subject":{"type":"user","id":"ana"},"action":{"name":"view"},"resource":{"type":"device","id":"gate"},"context":{"time":"2026-11-24T09:00:00Z","ip":"10.0.0.7"}}`,
	`{"evaluations":[{},{"subject":5},{"context":{"a":[[],{}]}}],"options":{"evaluations_semantic":"execute_all"}}`,
	`{"subject":{"id":"\ud800\u0000","properties":{"x":[1e400,-0,null,true]}}}`,
}

// survives reads a text as what is asked most: nothing that is no JSON is taken, and what was read can be written again.
func survives(t *testing.T, text []byte) (taken bool) {
	t.Helper()
	for _, into := range []any{&wire.Evaluation{}, &wire.Evaluations{}} {
		if quickjson.Unmarshal(text, into) != nil {
			continue
		}
		taken = true
		if !json.Valid(text) {
			t.Errorf("%q is read, and is no JSON", text)
		}
		if _, err := quickjson.Marshal(into); err != nil {
			t.Errorf("%q is read, and cannot be written: %v", text, err)
		}
	}
	return taken
}

// FuzzQuickReader: the reader of what is asked most survives whatever is sent.
func FuzzQuickReader(f *testing.F) {
	for _, text := range evaluations {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) { survives(t, []byte(text)) })
}

// TestTheQuickReaderSurvives what is made of evaluations by taking out, doubling, putting in and turning over at random. SENTIER_INPUTS says how
// many are tried.
func TestTheQuickReaderSurvives(t *testing.T) {
	inputs := 100_000
	if text := os.Getenv("SENTIER_INPUTS"); text != "" {
		var err error
		if inputs, err = strconv.Atoi(text); err != nil {
			t.Fatal(err)
		}
	}
	scraps := []string{`{`, `}`, `[`, `]`, `,`, `:`, `"`, `\`, `null`, `true`, `1e999`, `-`, `0.`, `"\u12`, `\ud83d`, `"subject"`, `"evaluations"`, `"context"`, "\x00", "\xff", "\u2028", ` `, strings.Repeat("[", 70), strings.Repeat(`{"a":`, 70)}
	random := rand.New(rand.NewPCG(5, 9))
	taken := 0
	var text []byte
	for range inputs {
		text = append(text[:0], evaluations[random.IntN(len(evaluations))]...)
		for range 1 + random.IntN(4) {
			at := random.IntN(len(text) + 1)
			to := min(len(text), at+random.IntN(12))
			switch random.IntN(5) {
			case 0:
				text = slices.Delete(text, at, to)
			case 1:
				text = slices.Insert(text, at, slices.Clone(text[at:to])...)
			case 2, 3:
				text = slices.Insert(text, at, []byte(scraps[random.IntN(len(scraps))])...)
			case 4:
				if at < len(text) {
					text[at] ^= 1 << random.IntN(8)
				}
			}
		}
		if survives(t, text) {
			taken++
		}
	}
	if taken < inputs/50 || taken > inputs*9/10 {
		t.Errorf("%d of %d inputs are read: they say little", taken, inputs)
	}
}
