package icalendar

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"sentier/internal/policy"
)

// TestAFeedIsReadAsItWasWritten: every text comes back, no line is longer than it may be, and none breaks a letter.
func TestAFeedIsReadAsItWasWritten(t *testing.T) {
	at := time.Date(2026, 3, 29, 0, 30, 0, 0, time.UTC)
	names := []string{"Night watch", "a, b; c \\ d", "END:VEVENT\r\nBEGIN:VEVENT", strings.Repeat("écluse ", 40), strings.Repeat("x", 75), "水門" + strings.Repeat("水", 60)}
	var entries []Entry
	for i, name := range names {
		entries = append(entries, Entry{UID: strings.Repeat("u", i+1), Name: name, About: name, From: at.AddDate(0, 0, i), Until: at.AddDate(0, 0, i).Add(2 * time.Hour)})
	}
	text := Write("Feed, of all", "", entries, at)
	for _, line := range bytes.Split(text, []byte("\r\n")) {
		if len(line) > 75 || !strings.EqualFold(strings.ToValidUTF8(string(line), "?"), string(line)) {
			t.Errorf("%d bytes: %q", len(line), line)
		}
	}
	times, err := Times(text, time.UTC, policy.DateOf(at), policy.DateOf(at).Add(30))
	if err != nil || len(times) != len(names) {
		t.Fatalf("%d times, %v", len(times), err)
	}
	for i, x := range times {
		want := strings.TrimSpace(strings.NewReplacer("\r\n", " ", "\n", " ").Replace(names[i]))
		if x.Name != want || !x.From.Equal(entries[i].From) || !x.Until.Equal(entries[i].Until) || x.Broken != nil {
			t.Errorf("%q from %s until %s, want %q", x.Name, x.From, x.Until, want)
		}
	}
}
