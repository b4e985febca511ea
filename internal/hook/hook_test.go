package hook

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"sentier/internal/policy"
)

func TestPausesGrowUpToABound(t *testing.T) {
	if Pause(1) != 5*time.Second || Pause(2) != 10*time.Second || Pause(3) != 20*time.Second {
		t.Errorf("the first pauses are %s, %s, %s", Pause(1), Pause(2), Pause(3))
	}
	for tries := range 200 {
		if p := Pause(tries); p < firstPause || p > mostPause || p > Pause(tries+1) {
			t.Errorf("after %d tries: %s, then %s", tries, p, Pause(tries+1))
		}
	}
}

// TestWhatIsAnsweredToAnEvent says of each answer whether the event is taken; nothing is sent where it could not be signed, and nobody is followed anywhere.
func TestWhatIsAnsweredToAnEvent(t *testing.T) {
	const secret = "signs-what-the-desk-is-told"
	status, tried, elsewhere := 200, 0, 0
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere++ }))
	defer other.Close()
	here := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		tried++
		body, err := io.ReadAll(r.Body)
		if err != nil {
			t.Error(err)
		}
		proof, err := standardwebhooks.NewWebhookRaw([]byte(secret))
		if err != nil {
			t.Error(err)
			return
		}
		if err := proof.Verify(body, r.Header); err != nil {
			t.Errorf("the signature: %v of %s", err, body)
		}
		w.Header().Set("Location", other.URL)
		w.WriteHeader(status)
	}))
	defer here.Close()
	event := &Event{ID: "entry-7", Type: "sentier.change", Source: "sentier", Time: time.Now(), Data: map[string]any{"entry": 7}}
	for _, c := range []struct {
		status int
		taken  bool
	}{{200, true}, {202, true}, {204, true}, {302, false}, {307, false}, {400, false}, {410, false}, {429, false}, {500, false}} {
		status = c.status
		got, err := Send(t.Context(), here.URL, secret, event)
		if got != c.status || (err == nil) != c.taken {
			t.Errorf("%d: %d, %v", c.status, got, err)
		}
	}
	if elsewhere > 0 {
		t.Errorf("the receiver sent us elsewhere, and we went %d times", elsewhere)
	}
	before := tried
	for _, bad := range []string{"", "short", "whsec_" + strings.Repeat("!", 40)} {
		var said policy.Said
		if _, err := Send(t.Context(), here.URL, bad, event); !errors.As(err, &said) || tried != before {
			t.Errorf("the secret %q: %v, sent %d", bad, err, tried-before)
		}
	}
	here.Close()
	if got, err := Send(t.Context(), here.URL, secret, event); got != 0 || err == nil || strings.Contains(err.Error(), here.URL) {
		t.Errorf("nobody there: %d, %v", got, err)
	}
}
