package server

import (
	"bytes"
	"compress/gzip"
	"io"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
)

// TestWhatIsPackedIsSentAsItIs: compressed to whoever reads that, plain to the others, and not at all to whoever has it, whichever way it came.
func TestWhatIsPackedIsSentAsItIs(t *testing.T) {
	t.Parallel()
	text := strings.Repeat("the sluice is shut; ", 200)
	p := pack([]byte(text))
	ask := func(encoding, known string) *httptest.ResponseRecorder {
		r := httptest.NewRequest("GET", "/", nil)
		r.Header.Set("Accept-Encoding", encoding)
		r.Header.Set("If-None-Match", known)
		w := httptest.NewRecorder()
		p.serve(w, r, "text/plain")
		return w
	}
	plain, small := ask("", ""), ask("gzip, br", "")
	if plain.Body.String() != text || plain.Header().Get("Content-Encoding") != "" {
		t.Errorf("plain: %v", plain.Header())
	}
	if small.Header().Get("Content-Encoding") != "gzip" || unpacked(t, small.Body.Bytes()) != text || small.Body.Len() > len(text)/10 {
		t.Errorf("compressed: %v, %d bytes", small.Header(), small.Body.Len())
	}
	for _, known := range []string{plain.Header().Get("ETag"), small.Header().Get("ETag")} {
		for _, encoding := range []string{"", "gzip"} {
			if w := ask(encoding, known); w.Code != 304 || w.Body.Len() > 0 {
				t.Errorf("whoever has %s and takes %q: %d", known, encoding, w.Code)
			}
		}
	}
	if few := pack([]byte("shut")); few.small != nil {
		t.Error("a few bytes are compressed")
	}
	files := fstest.MapFS{"assets/a.js": {Data: []byte("plain")}, "assets/a.js.gz": {Data: p.small}}
	for encoding, want := range map[string]bool{"": false, "gzip": true} {
		r, w := httptest.NewRequest("GET", "/assets/a.js", nil), httptest.NewRecorder()
		r.Header.Set("Accept-Encoding", encoding)
		if got := servePacked(w, r, files, "assets/a.js", "text/javascript"); got != want || want && (unpacked(t, w.Body.Bytes()) != text || w.Header().Get("Content-Type") != "text/javascript") {
			t.Errorf("a file to whoever takes %q: %t %v", encoding, got, w.Header())
		}
	}
}

func unpacked(t *testing.T, data []byte) string {
	t.Helper()
	r, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		t.Fatal(err)
	}
	text, err := io.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	return string(text)
}
